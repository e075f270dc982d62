import { keepPreviousData, useQuery } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body, type Schemas } from "../api/client";

export type ChangeRow = Schemas["ChangeRow"];
export type RunRow = Schemas["RunRow"];
export type MarkRow = Schemas["MarkRow"];
export type RevisionRow = Schemas["RevisionRow"];

/** How many rows a page of a list has. */
export const pageSize = 50;

type Verdict = "" | "clear" | "broken" | "unsure" | "not checked";

/** What can be asked of the lists of a site; which of it counts depends on the list. */
export interface Asked {
  q?: string;
  environment?: number;
  state?: string;
  kind?: "" | RunRow["kind"];
  verdict?: Verdict;
  sort?: string;
  down: boolean;
  offset: number;
}

type Id = MaybeRefOrGetter<number>;

/** A page of one of a site's lists; what was shown stays until the next page is there. */
function useList<T>(
  name: string,
  id: Id,
  asked: MaybeRefOrGetter<Asked>,
  read: (id: number, asked: Asked) => Promise<T>,
) {
  return useQuery({
    queryKey: ["lists", name, id, asked],
    queryFn: () => read(toValue(id), toValue(asked)),
    placeholderData: keepPreviousData,
  });
}

const at = <Q extends object>(id: number, query: Q) => ({
  params: { path: { id }, query: { ...query, limit: pageSize } },
});

export const useChangeRows = (id: Id, asked: MaybeRefOrGetter<Asked>) =>
  useList("changes", id, asked, (n, { q, state, sort, down, offset }) =>
    body(
      api.GET("/api/v1/sites/{id}/changes", at(n, { q, state, sort: (sort || undefined) as "updated", down, offset })),
    ),
  );

export const useRunRows = (id: Id, asked: MaybeRefOrGetter<Asked>) =>
  useList("runs", id, asked, (n, { q, environment, kind, verdict, sort, down, offset }) =>
    body(
      api.GET(
        "/api/v1/sites/{id}/runs",
        at(n, { q, environment, kind, verdict, sort: (sort || undefined) as "created", down, offset }),
      ),
    ),
  );

export const useMarkRows = (id: Id, asked: MaybeRefOrGetter<Asked>) =>
  useList("marks", id, asked, (n, { q, environment, verdict, sort, down, offset }) =>
    body(
      api.GET(
        "/api/v1/sites/{id}/marks",
        at(n, { q, environment, verdict, sort: (sort || undefined) as "taken", down, offset }),
      ),
    ),
  );

export const useRevisionRows = (id: Id, asked: MaybeRefOrGetter<Asked>) =>
  useList("revisions", id, asked, (n, { q, environment, sort, down, offset }) =>
    body(
      api.GET(
        "/api/v1/sites/{id}/revisions",
        at(n, { q, environment, sort: (sort || undefined) as "created", down, offset }),
      ),
    ),
  );

/** What differs between two revisions; nothing is asked until both are chosen. */
export function useRevisionsCompared(id: Id, from: MaybeRefOrGetter<string>, to: MaybeRefOrGetter<string>) {
  return useQuery({
    queryKey: ["lists", "compared", id, from, to],
    queryFn: () =>
      body(
        api.GET("/api/v1/sites/{id}/revisions/compare", {
          params: { path: { id: toValue(id) }, query: { from: toValue(from), to: toValue(to) } },
        }),
      ),
    enabled: () => !!toValue(from) && !!toValue(to),
    staleTime: Infinity, // revisions do not change
  });
}
