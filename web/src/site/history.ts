import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body } from "../api/client";

type Id = MaybeRefOrGetter<number>;

/** Which lines are meant; what is empty leaves nothing out. */
export interface Filter {
  who?: string;
  kind?: string;
  environment?: number;
  from?: string;
  to?: string;
}

const page = 100;

/** A site's history, the latest first, a page at a time. */
export function useHistory(id: Id, filter: MaybeRefOrGetter<Filter>) {
  return useInfiniteQuery({
    queryKey: ["history", id, filter],
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      body(
        api.GET("/api/v1/sites/{id}/history", {
          params: { path: { id: toValue(id) }, query: { ...toValue(filter), before: pageParam, limit: page } },
        }),
      ),
    getNextPageParam: (last) => (last.length < page ? undefined : last[last.length - 1]!.id),
    placeholderData: keepPreviousData,
  });
}

export function useHistoryKnown(id: Id) {
  return useQuery({
    queryKey: ["history", id, "known"],
    queryFn: () => body(api.GET("/api/v1/sites/{id}/history/known", { params: { path: { id: toValue(id) } } })),
  });
}

export function useChain(id: Id) {
  return useQuery({
    queryKey: ["history", id, "chain"],
    queryFn: () => body(api.GET("/api/v1/sites/{id}/history/chain", { params: { path: { id: toValue(id) } } })),
  });
}

/** Settings at a moment. */
export function useInForceAt(env: Id, time: MaybeRefOrGetter<string>) {
  return useQuery({
    queryKey: ["in force", env, time],
    queryFn: () =>
      body(
        api.GET("/api/v1/environments/{id}/at", {
          params: { path: { id: toValue(env) }, query: { time: toValue(time) } },
        }),
      ),
    enabled: () => toValue(env) > 0 && toValue(time) !== "",
  });
}
