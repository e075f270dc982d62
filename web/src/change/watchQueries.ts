import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { api, body, type Schemas } from "../api/client";

export type Watch = Schemas["WatchView"];
export type WatchLook = Schemas["WatchLookView"];

/** What people do with the watch of a promotion; each needs a reason, which stands in the history. */
export function useWatchActs() {
  const client = useQueryClient();
  const onSuccess = () =>
    Promise.all([
      client.invalidateQueries({ queryKey: ["change"] }),
      client.invalidateQueries({ queryKey: ["site"] }),
      client.invalidateQueries({ queryKey: ["sites"] }),
    ]);
  return {
    settle: useMutation({
      mutationFn: (v: { change: number; reason: string }) =>
        body(
          api.POST("/api/v1/changes/{id}/settle", {
            params: { path: { id: v.change } },
            body: { reason: v.reason },
          }),
        ),
      onSuccess,
    }),
    keep: useMutation({
      mutationFn: (v: { watch: number; reason: string }) =>
        body(api.POST("/api/v1/watches/{id}/keep", { params: { path: { id: v.watch } }, body: { reason: v.reason } })),
      onSuccess,
    }),
    stop: useMutation({
      mutationFn: (v: { watch: number; reason: string }) =>
        body(api.POST("/api/v1/watches/{id}/stop", { params: { path: { id: v.watch } }, body: { reason: v.reason } })),
      onSuccess,
    }),
  };
}
