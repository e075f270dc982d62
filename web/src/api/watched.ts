import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body, type Schemas } from "./client";

export type Watched = Schemas["WatchedView"];

/** What is looked at on a site. */
export function useWatched(site: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: ["watched", site],
    queryFn: () => body(api.GET("/api/v1/sites/{id}/watched", { params: { path: { id: toValue(site) } } })),
  });
}

/** Changing it, and trying it on the spot. */
export function useWatchedActs(site: MaybeRefOrGetter<number>) {
  const client = useQueryClient();
  const at = () => ({ params: { path: { id: toValue(site) } } });
  return {
    change: useMutation({
      mutationFn: (to: Omit<Watched, "environments">) =>
        body(api.PUT("/api/v1/sites/{id}/watched", { ...at(), body: to })),
      onSuccess: (now) => {
        client.setQueryData(["watched", toValue(site)], now);
        void client.invalidateQueries({ queryKey: ["sites"] });
      },
      onError: () => client.invalidateQueries({ queryKey: ["watched"] }),
    }),
    run: useMutation({
      mutationFn: (what: Schemas["Rehearsal"]) =>
        body(api.POST("/api/v1/sites/{id}/watched/run", { ...at(), body: what })),
    }),
  };
}
