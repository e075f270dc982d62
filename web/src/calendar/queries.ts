import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body, done, type Schemas } from "../api/client";

export type Calendar = Schemas["CalendarView"];
export type CalendarEntry = Schemas["CalendarEntryView"];
export type EntryWords = Schemas["Entry"];
export type Promotion = Schemas["Promotion"];

/** The calendar of a site, or of all sites (0), between two moments. */
export function useCalendar(site: MaybeRefOrGetter<number>, from: MaybeRefOrGetter<Date>, to: MaybeRefOrGetter<Date>) {
  return useQuery({
    queryKey: ["calendar", site, from, to],
    queryFn: () =>
      body(
        api.GET("/api/v1/calendar", {
          params: {
            query: { site: toValue(site), from: toValue(from).toISOString(), to: toValue(to).toISOString() },
          },
        }),
      ),
    refetchInterval: 60_000, // what is going on changes by itself
  });
}

export function usePromotions(site: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: ["promotions", site],
    queryFn: () => body(api.GET("/api/v1/sites/{id}/promotions", { params: { path: { id: toValue(site) } } })),
    enabled: () => toValue(site) > 0,
  });
}

export function useCalendarActs() {
  const client = useQueryClient();
  const onSuccess = () =>
    Promise.all([
      client.invalidateQueries({ queryKey: ["calendar"] }),
      client.invalidateQueries({ queryKey: ["change"] }),
      client.invalidateQueries({ queryKey: ["promotions"] }),
    ]);
  return {
    add: useMutation({
      mutationFn: (v: { site: number; entry: EntryWords }) =>
        body(api.POST("/api/v1/calendar/entries", { params: { query: { site: v.site } }, body: v.entry })),
      onSuccess,
    }),
    edit: useMutation({
      mutationFn: (v: { id: number; version: number; entry: EntryWords }) =>
        body(
          api.PUT("/api/v1/calendar/entries/{id}", {
            params: { path: { id: v.id } },
            body: { version: v.version, entry: v.entry },
          }),
        ),
      onSuccess,
    }),
    remove: useMutation({
      mutationFn: (v: { id: number; version: number }) =>
        done(
          api.DELETE("/api/v1/calendar/entries/{id}", {
            params: { path: { id: v.id }, query: { version: v.version } },
          }),
        ),
      onSuccess,
    }),
    bring: useMutation({
      mutationFn: (v: { site: number; file: string; kind: "freeze" | "window"; zone: string }) =>
        body(
          api.POST("/api/v1/calendar/import", {
            params: { query: { site: v.site } },
            body: { file: v.file, kind: v.kind, zone: v.zone },
          }),
        ),
      onSuccess,
    }),
    address: useMutation({
      mutationFn: (site: number) => body(api.POST("/api/v1/calendar/address", { params: { query: { site } } })),
      onSuccess,
    }),
    noAddress: useMutation({
      mutationFn: (site: number) => done(api.DELETE("/api/v1/calendar/address", { params: { query: { site } } })),
      onSuccess,
    }),
    promotions: useMutation({
      mutationFn: (v: { site: number; promotion: Promotion }) =>
        body(api.PUT("/api/v1/sites/{id}/promotions", { params: { path: { id: v.site } }, body: v.promotion })),
      onSuccess,
    }),
  };
}
