import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body, type Schemas } from "../api/client";

export type FieldView = Schemas["View"];
export type FieldDay = Schemas["Day"];
export type Asked = {
  metric: FieldView["metric"];
  device: "desktop" | "phone";
  class: string;
  days: number;
};

/** How fast a site was for its visitors. */
export function useField(site: MaybeRefOrGetter<number>, ask: MaybeRefOrGetter<Asked>) {
  return useQuery({
    queryKey: ["field", site, ask],
    queryFn: () =>
      body(api.GET("/api/v1/sites/{id}/field", { params: { path: { id: toValue(site) }, query: toValue(ask) } })),
    placeholderData: keepPreviousData,
  });
}

/** How field data is collected. */
export function useBeacon(site: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: ["beacon", site],
    queryFn: () => body(api.GET("/api/v1/sites/{id}/beacon", { params: { path: { id: toValue(site) } } })),
  });
}

export function useFieldActs(site: MaybeRefOrGetter<number>) {
  const client = useQueryClient();
  return {
    beacon: useMutation({
      mutationFn: (v: { on: boolean; share?: number }) =>
        body(api.PUT("/api/v1/sites/{id}/beacon", { params: { path: { id: toValue(site) } }, body: v })),
      onSuccess: () => client.invalidateQueries({ queryKey: ["beacon"] }),
    }),
    read: useMutation({
      mutationFn: (csv: string) =>
        body(
          api.POST("/api/v1/sites/{id}/field", {
            params: { path: { id: toValue(site) } },
            body: csv as never,
            bodySerializer: (b) => b as unknown as string,
            headers: { "Content-Type": "text/csv" },
          }),
        ),
      onSuccess: () => client.invalidateQueries({ queryKey: ["field"] }),
    }),
  };
}
