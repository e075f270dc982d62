import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body, type Schemas } from "../api/client";

export type Scope = Schemas["Scope"];
export type MeasuredPage = Schemas["PageMeasured"];
export type Case = Schemas["Case"];

/** One measured page of a run in depth; the first page and case when none are named. */
export function useMeasuredPage(
  run: MaybeRefOrGetter<number>,
  page: MaybeRefOrGetter<string>,
  of: MaybeRefOrGetter<Case | undefined>,
) {
  return useQuery({
    queryKey: ["measured", run, page, of],
    queryFn: () =>
      body(
        api.GET("/api/v1/runs/{id}/measured", {
          params: { path: { id: toValue(run) }, query: { page: toValue(page), ...toValue(of) } },
        }),
      ),
  });
}

/** Runs that measured something. */
export function useMeasuredRuns() {
  return useQuery({ queryKey: ["measurements"], queryFn: () => body(api.GET("/api/v1/measurements", {})) });
}

/** What two of them say against each other. */
export function useComparison(before: MaybeRefOrGetter<number>, after: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: ["measurements", before, after],
    enabled: () => !!toValue(before) && !!toValue(after),
    queryFn: () =>
      body(
        api.GET("/api/v1/measurements/comparison", {
          params: { query: { before: toValue(before), after: toValue(after) } },
        }),
      ),
  });
}

/** Measuring, going on with it, and holding a recording against it. */
export function useMeasureActs() {
  const client = useQueryClient();
  const again = () => client.invalidateQueries();
  return {
    measure: useMutation({
      mutationFn: (v: { change: number; scope: Scope }) =>
        body(api.POST("/api/v1/changes/{id}/measure", { params: { path: { id: v.change } }, body: v.scope })),
      onSuccess: again,
    }),
    more: useMutation({
      mutationFn: (run: number) => body(api.POST("/api/v1/runs/{id}/measure-more", { params: { path: { id: run } } })),
      onSuccess: again,
    }),
    recording: useMutation({
      mutationFn: (v: { run: number; page: string; of?: Case; chosen: number; har: unknown }) =>
        body(
          api.POST("/api/v1/runs/{id}/recordings", {
            params: { path: { id: v.run }, query: { page: v.page, ...v.of, side: "after", chosen: v.chosen } },
            body: v.har as never,
          }),
        ),
    }),
  };
}
