import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body, type Schemas } from "../api/client";

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

/** What people accepted for longer than one run, and ending that. */
export function useDecisions(site: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: ["sites", site, "decisions"],
    queryFn: () => body(api.GET("/api/v1/sites/{id}/decisions", { params: { path: { id: toValue(site) } } })),
  });
}
export function useEndDecision() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (id: number) => body(api.POST("/api/v1/decisions/{id}/end", { params: { path: { id } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["sites"] }),
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
