import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body, type Schemas } from "../api/client";

export type Offer = Schemas["RolloutOffer"];
export type Rollout = Schemas["RolloutView"];
export type RolloutSite = Schemas["RolloutSiteView"];
export type Terms = Schemas["Terms"];

/** What a change would be on each of the other sites. */
export function useOffers(change: MaybeRefOrGetter<number>, wanted: MaybeRefOrGetter<boolean> = true) {
  return useQuery({
    queryKey: ["offers", change],
    enabled: () => toValue(wanted),
    queryFn: () => body(api.GET("/api/v1/changes/{id}/offers", { params: { path: { id: toValue(change) } } })),
  });
}

/** Rollouts of a change, and the one that brought it. */
export function useRolloutsOf(change: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: ["rollouts", "of", change],
    queryFn: () => body(api.GET("/api/v1/rollouts", { params: { query: { change: toValue(change) } } })),
  });
}

export function useRollout(id: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: ["rollouts", id],
    queryFn: () => body(api.GET("/api/v1/rollouts/{id}", { params: { path: { id: toValue(id) } } })),
  });
}

export function useRolloutActs() {
  const client = useQueryClient();
  const onSuccess = (r: Rollout) => {
    client.setQueryData(["rollouts", r.id], r);
    return client.invalidateQueries({ queryKey: ["rollouts"] });
  };
  const at = (id: number) => ({ params: { path: { id } } });
  return {
    begin: useMutation({
      mutationFn: (v: { change: number; terms: Terms }) =>
        body(api.POST("/api/v1/changes/{id}/rollouts", { ...at(v.change), body: v.terms })),
      onSuccess,
    }),
    go: useMutation({ mutationFn: (id: number) => body(api.POST("/api/v1/rollouts/{id}/go", at(id))), onSuccess }),
    stop: useMutation({ mutationFn: (id: number) => body(api.POST("/api/v1/rollouts/{id}/stop", at(id))), onSuccess }),
    end: useMutation({ mutationFn: (id: number) => body(api.POST("/api/v1/rollouts/{id}/end", at(id))), onSuccess }),
    skip: useMutation({
      mutationFn: (v: { id: number; site: number; reason: string }) =>
        body(
          api.POST("/api/v1/rollouts/{id}/sites/{site}/skip", {
            params: { path: { id: v.id, site: v.site } },
            body: { reason: v.reason },
          }),
        ),
      onSuccess,
    }),
  };
}
