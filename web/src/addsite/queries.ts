import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import type { Looks } from "../testplan/looks";
import { api, body, done, type Schemas } from "../api/client";

export type Onboarding = Schemas["OnboardingView"];
export type Place = Schemas["OnboardingPlace"];

export function useOnboardings() {
  return useQuery({ queryKey: ["onboardings"], queryFn: () => body(api.GET("/api/v1/onboardings")) });
}

export function useOnboarding(id: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: ["onboardings", id],
    queryFn: () => body(api.GET("/api/v1/onboardings/{id}", { params: { path: { id: toValue(id) } } })),
    enabled: () => toValue(id) > 0,
    // Progress is told as it happens; a notice that was missed is made up for.
    refetchInterval: (q) => (q.state.data?.survey.state === "running" ? 1500 : false),
  });
}

/** Which pages that were found are listed. */
export type Wanted = Schemas["Wanted"];

/** A page of the pages that were found; read again when the survey goes on. */
export function useFoundPages(
  id: MaybeRefOrGetter<number>,
  wanted: MaybeRefOrGetter<Wanted>,
  offset: MaybeRefOrGetter<number>,
) {
  return useQuery({
    queryKey: ["found-pages", id, wanted, offset],
    queryFn: () =>
      body(
        api.GET("/api/v1/onboardings/{id}/pages", {
          params: {
            path: { id: toValue(id) },
            query: { ...toValue(wanted), offset: toValue(offset), limit: pageSize },
          },
        }),
      ),
    placeholderData: keepPreviousData,
  });
}
export const pageSize = 50;

/** Everything that is done while a site is being added. */
export function useOnboardingActs() {
  const client = useQueryClient();
  const keep = (t: Onboarding) => {
    client.setQueryData(["onboardings", t.id], t);
    void client.invalidateQueries({ queryKey: ["onboardings"], exact: true });
  };
  const at = (id: number) => ({ params: { path: { id } } });
  return {
    begin: useMutation({
      mutationFn: (v: { name: string; environments: Place[] }) => body(api.POST("/api/v1/onboardings", { body: v })),
      onSuccess: keep,
    }),
    place: useMutation({
      mutationFn: (v: { id: number; environments: Place[] }) =>
        body(api.PUT("/api/v1/onboardings/{id}/environments", { ...at(v.id), body: { environments: v.environments } })),
      onSuccess: keep,
    }),
    survey: useMutation({
      mutationFn: (id: number) => body(api.POST("/api/v1/onboardings/{id}/survey", at(id))),
      onSuccess: keep,
    }),
    pages: useMutation({
      mutationFn: ({ id, ...said }: { id: number } & Schemas["Class-pagesRequest"]) =>
        body(api.PUT("/api/v1/onboardings/{id}/pages", { ...at(id), body: said })),
      onSuccess: async (t) => {
        keep(t);
        await client.invalidateQueries({ queryKey: ["found-pages", t.id] });
      },
    }),
    looks: useMutation({
      mutationFn: (v: { id: number; looks: Looks }) =>
        body(api.PUT("/api/v1/onboardings/{id}/looks", { ...at(v.id), body: v.looks })),
      onSuccess: keep,
    }),
    run: useMutation({
      mutationFn: (v: { id: number; what: Schemas["Rehearsal"] }) =>
        body(api.POST("/api/v1/onboardings/{id}/run", { ...at(v.id), body: v.what })),
    }),
    register: useMutation({
      mutationFn: (id: number) => body(api.POST("/api/v1/onboardings/{id}/register", at(id))),
      onSuccess: () => client.invalidateQueries(),
    }),
    drop: useMutation({
      mutationFn: (id: number) => done(api.DELETE("/api/v1/onboardings/{id}", at(id))),
      onSuccess: () => client.invalidateQueries(),
    }),
  };
}
