import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body, done, type Schemas } from "../api/client";

export type Schedule = Schemas["ScheduleView"];
export type ScheduleWords = Schemas["Schedule"];

export function useSchedules(site: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: ["site", site, "schedules"],
    queryFn: () => body(api.GET("/api/v1/sites/{id}/schedules", { params: { path: { id: toValue(site) } } })),
  });
}

/** What deleted data on production once, and may be carried out again. */
export function useTidies(site: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: ["site", site, "tidies"],
    queryFn: () => body(api.GET("/api/v1/sites/{id}/tidies", { params: { path: { id: toValue(site) } } })),
  });
}

export function useScheduleActs() {
  const client = useQueryClient();
  const onSuccess = () => client.invalidateQueries({ queryKey: ["site"] });
  return {
    add: useMutation({
      mutationFn: (v: { site: number; schedule: ScheduleWords }) =>
        body(api.POST("/api/v1/sites/{id}/schedules", { params: { path: { id: v.site } }, body: v.schedule })),
      onSuccess,
    }),
    edit: useMutation({
      mutationFn: (v: Schedule) =>
        body(
          api.PUT("/api/v1/schedules/{id}", {
            params: { path: { id: v.id } },
            body: { version: v.version, schedule: v.schedule, paused: v.paused },
          }),
        ),
      onSuccess,
    }),
    remove: useMutation({
      mutationFn: (id: number) => done(api.DELETE("/api/v1/schedules/{id}", { params: { path: { id } } })),
      onSuccess,
    }),
  };
}
