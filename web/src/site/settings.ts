import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body } from "../api/client";

type Id = MaybeRefOrGetter<number>;

export function useSettings(id: Id) {
  return useQuery({
    queryKey: ["settings", id],
    queryFn: () => body(api.GET("/api/v1/sites/{id}/settings", { params: { path: { id: toValue(id) } } })),
  });
}

export function useParity(id: Id) {
  return useQuery({
    queryKey: ["parity", id],
    queryFn: () => body(api.GET("/api/v1/sites/{id}/parity", { params: { path: { id: toValue(id) } } })),
    enabled: () => toValue(id) > 0,
  });
}

export function useCompare() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (id: number) => body(api.POST("/api/v1/sites/{id}/parity", { params: { path: { id } } })),
    onSuccess: (p, id) => client.setQueryData(["parity", id], p),
  });
}
