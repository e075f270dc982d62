import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body, type Schemas } from "./client";

export type TestPlan = Schemas["TestPlanView"];

/** What is looked at on a site. */
export function useTestPlan(site: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: ["test-plan", site],
    queryFn: () => body(api.GET("/api/v1/sites/{id}/test-plan", { params: { path: { id: toValue(site) } } })),
  });
}

/** What the newest marks taught about it. */
export function useLearned(site: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: ["sites", site, "learned"],
    queryFn: () => body(api.GET("/api/v1/sites/{id}/learned", { params: { path: { id: toValue(site) } } })),
  });
}

/** Changing it, and trying it on the spot. */
export function useTestPlanActs(site: MaybeRefOrGetter<number>) {
  const client = useQueryClient();
  const at = () => ({ params: { path: { id: toValue(site) } } });
  return {
    change: useMutation({
      mutationFn: (to: Omit<TestPlan, "environments">) =>
        body(api.PUT("/api/v1/sites/{id}/test-plan", { ...at(), body: to })),
      onSuccess: (now) => {
        client.setQueryData(["test-plan", toValue(site)], now);
        void client.invalidateQueries({ queryKey: ["sites"] });
      },
      onError: () => client.invalidateQueries({ queryKey: ["test-plan"] }),
    }),
    run: useMutation({
      mutationFn: (what: Schemas["Rehearsal"]) =>
        body(api.POST("/api/v1/sites/{id}/test-plan/run", { ...at(), body: what })),
    }),
  };
}
