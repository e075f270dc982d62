import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body, done, type Schemas } from "../api/client";

type Id = MaybeRefOrGetter<number>;

export type Days = Schemas["Keeping"];

/** How much of a site is kept, and for how long. */
export function useKept(id: Id) {
  return useQuery({
    queryKey: ["kept", id],
    queryFn: () => body(api.GET("/api/v1/sites/{id}/kept", { params: { path: { id: toValue(id) } } })),
  });
}

/** What would go with a site; asked anew each time somebody looks. */
export function useRemoval(id: Id, enabled: MaybeRefOrGetter<boolean>) {
  return useQuery({
    queryKey: ["removal", id],
    queryFn: () => body(api.GET("/api/v1/sites/{id}/removal", { params: { path: { id: toValue(id) } } })),
    enabled,
    staleTime: 0,
    gcTime: 0,
  });
}

export function useKeepingActs() {
  const client = useQueryClient();
  return {
    decide: useMutation({
      mutationFn: (v: { site: number; days: Days }) =>
        body(api.PUT("/api/v1/sites/{id}/kept", { params: { path: { id: v.site } }, body: v.days })),
      onSuccess: (kept, v) => client.setQueryData(["kept", v.site], kept),
    }),
    remove: useMutation({
      mutationFn: (v: { site: number; name: string; seen: string }) =>
        done(
          api.POST("/api/v1/sites/{id}/removal", {
            params: { path: { id: v.site } },
            body: { name: v.name, seen: v.seen },
          }),
        ),
      onSuccess: () => client.invalidateQueries({ queryKey: ["sites"] }),
    }),
  };
}
