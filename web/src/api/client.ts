import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";

export type Schemas = components["schemas"];

/** What the API says went wrong, in words a person can act on. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly details: { message?: string; location?: string }[] = [],
  ) {
    super(message);
  }
}

export const api = createClient<paths>({ baseUrl: "/" });

/** The body of an answer, or a Problem. */
export async function body<T>(
  call: Promise<{ data?: T; error?: { detail?: string; title?: string; errors?: unknown }; response: Response }>,
): Promise<T> {
  let answer;
  try {
    answer = await call;
  } catch {
    throw new Problem(0, "Tide Marker does not answer. Check that it runs, then try again.");
  }
  if (answer.error !== undefined || answer.data === undefined) {
    const e = answer.error;
    throw new Problem(
      answer.response.status,
      e?.detail ?? e?.title ?? `The server answered ${answer.response.status}.`,
      (e?.errors as Problem["details"]) ?? [],
    );
  }
  return answer.data;
}
