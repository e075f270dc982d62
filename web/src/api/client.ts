import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";

export type Schemas = components["schemas"];

/** What the API says went wrong, in words a person can act on. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly details: { message?: string; location?: string; value?: unknown }[] = [],
  ) {
    super(message);
  }
}

export const api = createClient<paths>({ baseUrl: "/" });

type Answer<T> = {
  data?: T;
  error?: { detail?: string; title?: string; errors?: unknown };
  response: Response;
};

async function answered<T>(call: Promise<Answer<T>>): Promise<Answer<T>> {
  let answer;
  try {
    answer = await call;
  } catch {
    throw new Problem(0, "Tide Marker does not answer. Check that it runs, then try again.");
  }
  if (!answer.response.ok) {
    const e = answer.error;
    throw new Problem(
      answer.response.status,
      e?.detail ?? e?.title ?? `The server answered ${answer.response.status}.`,
      (e?.errors as Problem["details"]) ?? [],
    );
  }
  return answer;
}

/** The body of an answer, or a Problem. */
export async function body<T>(call: Promise<Answer<T>>): Promise<T> {
  const { data, response } = await answered(call);
  if (data === undefined) throw new Problem(response.status, "The server's answer is empty.");
  return data;
}

/** For answers without a body: nothing, or a Problem. */
export async function done(call: Promise<Answer<unknown>>): Promise<void> {
  await answered(call);
}
