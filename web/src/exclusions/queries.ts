import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body, done, type Schemas } from "../api/client";

export type Ledger = Schemas["LedgerView"];
export type Entry = Schemas["ExclusionView"];
export type Cell = Schemas["Cell"];
export type Remark = Schemas["Remark"];
export type Mend = Schemas["Mend"];
export interface LedgerFilter {
  q?: string;
  state?: "proposed" | "active" | "retired" | "due";
  sort?: "recorded" | "pattern" | "reason" | "state" | "review" | "who";
  down?: boolean;
  limit?: number;
  offset?: number;
}

type Id = MaybeRefOrGetter<number>;

export function useLedger(site: Id, filter: MaybeRefOrGetter<LedgerFilter>) {
  return useQuery({
    queryKey: ["exclusions", site, filter],
    queryFn: () =>
      body(
        api.GET("/api/v1/sites/{id}/exclusions", {
          params: { path: { id: toValue(site) }, query: toValue(filter) },
        }),
      ),
    placeholderData: keepPreviousData,
  });
}

export function useMatrix(environment: Id) {
  return useQuery({
    queryKey: ["matrix", environment],
    queryFn: () =>
      body(api.GET("/api/v1/environments/{id}/matrix", { params: { path: { id: toValue(environment) } } })),
    enabled: () => toValue(environment) > 0,
  });
}

export function useCoverage(environment: Id) {
  return useQuery({
    queryKey: ["coverage", environment],
    queryFn: () =>
      body(api.GET("/api/v1/environments/{id}/coverage", { params: { path: { id: toValue(environment) } } })),
    enabled: () => toValue(environment) > 0,
  });
}

export function useEntryHistory(site: Id, entry: Id) {
  return useQuery({
    queryKey: ["exclusion-history", site, entry],
    queryFn: () =>
      body(
        api.GET("/api/v1/sites/{id}/exclusions/{exclusion}/history", {
          params: { path: { id: toValue(site), exclusion: toValue(entry) } },
        }),
      ),
    enabled: () => toValue(entry) > 0,
  });
}

/** What is done with a site's exclusions. */
export function useExclusionActs(site: Id) {
  const client = useQueryClient();
  const at = () => ({ params: { path: { id: toValue(site) } } });
  const fresh = () =>
    Promise.all(
      ["exclusions", "matrix", "coverage", "exclusion-history"].map((k) => client.invalidateQueries({ queryKey: [k] })),
    );
  return {
    record: useMutation({
      mutationFn: (v: Schemas["Record-exclusionRequest"]) =>
        body(api.POST("/api/v1/sites/{id}/exclusions", { ...at(), body: v })),
      onSuccess: fresh,
    }),
    edit: useMutation({
      mutationFn: (v: Schemas["Edit-exclusionsRequest"]) =>
        body(api.PUT("/api/v1/sites/{id}/exclusions", { ...at(), body: v })),
      onSuccess: fresh,
    }),
    retire: useMutation({
      mutationFn: (v: { ids: number[]; why: string }) =>
        body(api.POST("/api/v1/sites/{id}/exclusions/retire", { ...at(), body: v })),
      onSuccess: fresh,
    }),
    trial: useMutation({
      mutationFn: (ids: number[]) => body(api.POST("/api/v1/sites/{id}/exclusions/trial", { ...at(), body: { ids } })),
      onSuccess: fresh,
    }),
    mend: useMutation({
      mutationFn: (v: { title: string; reason: string; mends: Mend[] }) =>
        body(api.POST("/api/v1/sites/{id}/exclusions/mend", { ...at(), body: v })),
    }),
    bring: useMutation({
      mutationFn: (v: { format: "csv" | "json"; text: string }) =>
        body(api.POST("/api/v1/sites/{id}/exclusions/import", { ...at(), body: v })),
      onSuccess: fresh,
    }),
    decide: useMutation({
      mutationFn: (v: Schemas["Decide-policyRequest"]) =>
        done(api.PUT("/api/v1/sites/{id}/policies", { ...at(), body: v })),
      onSuccess: fresh,
    }),
    addresses: useMutation({
      mutationFn: () => body(api.POST("/api/v1/sites/{id}/addresses", at())),
      onSuccess: fresh,
    }),
    purge: useMutation({
      mutationFn: (v: { environment: number; page?: string; class?: string; stale: boolean; warm: boolean }) => {
        const { environment, ...order } = v;
        return body(
          api.POST("/api/v1/environments/{id}/purges", { params: { path: { id: environment } }, body: order }),
        );
      },
    }),
    isolation: useMutation({
      mutationFn: (environment: number) =>
        body(api.POST("/api/v1/environments/{id}/isolation-tests", { params: { path: { id: environment } } })),
      onSuccess: fresh,
    }),
    tryPattern: useMutation({
      mutationFn: (v: { environment: number; role: string; pattern: string; texts: string[] }) =>
        body(
          api.POST("/api/v1/environments/{id}/patterns", {
            params: { path: { id: v.environment } },
            body: { role: v.role, pattern: v.pattern, texts: v.texts },
          }),
        ),
    }),
  };
}
