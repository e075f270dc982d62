import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body, done, type Schemas } from "../api/client";

type Id = MaybeRefOrGetter<number>;
export type Environment = Schemas["EnvironmentView"];
export type Site = Schemas["SiteView"];

export function useSites(
  q: MaybeRefOrGetter<string>,
  waiting: MaybeRefOrGetter<boolean>,
  sort: MaybeRefOrGetter<"waiting" | "name">,
  offset: MaybeRefOrGetter<number>,
  label: MaybeRefOrGetter<string> = "",
) {
  return useQuery({
    queryKey: ["sites", q, waiting, sort, offset, label],
    queryFn: () =>
      body(
        api.GET("/api/v1/sites", {
          params: {
            query: {
              q: toValue(q),
              waiting: toValue(waiting),
              sort: toValue(sort),
              offset: toValue(offset),
              label: toValue(label),
              limit: 30,
            },
          },
        }),
      ),
    placeholderData: keepPreviousData,
  });
}

export function useSite(id: Id, enabled: MaybeRefOrGetter<boolean> = true) {
  return useQuery({
    queryKey: ["site", id],
    queryFn: () => body(api.GET("/api/v1/sites/{id}", { params: { path: { id: toValue(id) } } })),
    enabled,
  });
}

/** The kinds of speed layers that there are. */
export function useKinds() {
  return useQuery({ queryKey: ["kinds"], queryFn: () => body(api.GET("/api/v1/speed-layers")), staleTime: Infinity });
}

/** What is done with an environment, each reading again what it changed. */
export function useSiteActs() {
  const client = useQueryClient();
  const again = () => client.invalidateQueries();
  return {
    mark: useMutation({
      mutationFn: (env: number) => body(api.POST("/api/v1/environments/{id}/marks", { params: { path: { id: env } } })),
      onSuccess: again,
    }),
    check: useMutation({
      mutationFn: (env: number) =>
        body(api.POST("/api/v1/environments/{id}/checks", { params: { path: { id: env } } })),
      onSuccess: again,
    }),
    read: useMutation({
      mutationFn: (env: number) => body(api.POST("/api/v1/environments/{id}/read", { params: { path: { id: env } } })),
      onSuccess: again,
    }),
    goBack: useMutation({
      mutationFn: (v: { env: number; mark: number }) =>
        body(
          api.POST("/api/v1/environments/{id}/rollbacks", {
            params: { path: { id: v.env } },
            body: { mark: v.mark },
          }),
        ),
      onSuccess: again,
    }),
    backup: useMutation({
      mutationFn: (v: { env: number; place: string }) =>
        done(
          api.POST("/api/v1/environments/{id}/backups", { params: { path: { id: v.env } }, body: { place: v.place } }),
        ),
      onSuccess: again,
    }),
    upload: useMutation({
      mutationFn: (v: { env: number; file: string }) =>
        body(
          api.POST("/api/v1/environments/{id}/exports", { params: { path: { id: v.env } }, body: { file: v.file } }),
        ),
      onSuccess: again,
    }),
    acceptDrift: useMutation({
      mutationFn: (v: { drift: number; found: string; reason: string }) =>
        body(
          api.POST("/api/v1/drifts/{id}/accept", {
            params: { path: { id: v.drift } },
            body: { found: v.found, reason: v.reason },
          }),
        ),
      onSuccess: again,
    }),
    revertDrift: useMutation({
      mutationFn: (drift: number) => body(api.POST("/api/v1/drifts/{id}/revert", { params: { path: { id: drift } } })),
      onSuccess: again,
    }),
  };
}
