import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body, type Schemas } from "../api/client";

type Id = MaybeRefOrGetter<number>;
export type ChangeAct = "try" | "promote" | "tidy" | "rebase" | "split" | "discard" | "accept";
export type Change = Schemas["ChangeView"];

export function useChange(id: Id) {
  return useQuery({
    queryKey: ["change", id],
    queryFn: () => body(api.GET("/api/v1/changes/{id}", { params: { path: { id: toValue(id) } } })),
    // Notices of the server can be missed while it restarts; what is under way is read now and then all the same.
    refetchInterval: (q) => (q.state.data?.runs.some((r) => !r.finishedAt) ? 3000 : false),
  });
}

/** Where rolling a change back goes, and what would go with it. */
export function useRollBackPlan(id: Id) {
  return useQuery({
    queryKey: ["change", id, "rollback"],
    queryFn: () => body(api.GET("/api/v1/changes/{id}/rollback", { params: { path: { id: toValue(id) } } })),
  });
}

/** What a change will do to staging; asked again when it would put other settings in force. */
export function usePredictions(change: Id, fingerprint: MaybeRefOrGetter<string>) {
  return useQuery({
    queryKey: ["change", change, "predictions", fingerprint],
    queryFn: () => body(api.GET("/api/v1/changes/{id}/predictions", { params: { path: { id: toValue(change) } } })),
    placeholderData: keepPreviousData,
  });
}

/** What a bundle would make of a change. */
export function usePreview(change: Id, name: MaybeRefOrGetter<string>) {
  return useQuery({
    queryKey: ["change", change, "bundle", name],
    queryFn: () =>
      body(
        api.GET("/api/v1/changes/{id}/bundle", {
          params: { path: { id: toValue(change) }, query: { name: toValue(name) } },
        }),
      ),
    enabled: () => toValue(name) !== "",
  });
}

export function useBundles() {
  return useQuery({ queryKey: ["bundles"], queryFn: () => body(api.GET("/api/v1/bundles")) });
}

/** What is done with bundles and carried revisions. */
export function useBundleActs() {
  const client = useQueryClient();
  const again = () => client.invalidateQueries();
  return {
    apply: useMutation({
      mutationFn: (v: { change: number; name: string; version: number }) =>
        body(
          api.POST("/api/v1/changes/{id}/bundle", {
            params: { path: { id: v.change } },
            body: { name: v.name, version: v.version },
          }),
        ),
      onSuccess: again,
    }),
    make: useMutation({
      mutationFn: (v: { name: string; summary: string; environment: number; fingerprint: string }) =>
        body(api.POST("/api/v1/bundles", { body: v })),
      onSuccess: again,
    }),
    fit: useMutation({
      mutationFn: (v: { site: number; document: string }) =>
        body(
          api.POST("/api/v1/sites/{id}/carried/fit", {
            params: { path: { id: v.site } },
            body: { document: v.document },
          }),
        ),
    }),
    take: useMutation({
      mutationFn: (v: { site: number; document: string; title: string; take: string[] }) =>
        body(
          api.POST("/api/v1/sites/{id}/carried", {
            params: { path: { id: v.site } },
            body: { document: v.document, title: v.title, take: v.take },
          }),
        ),
      onSuccess: again,
    }),
  };
}

/** What is done with a change, each reading again what it changed. */
export function useChangeActs() {
  const client = useQueryClient();
  const again = () => client.invalidateQueries();
  return {
    begin: useMutation({
      mutationFn: (v: { site: number; title: string; reason: string; effect: string }) =>
        body(
          api.POST("/api/v1/sites/{id}/changes", {
            params: { path: { id: v.site } },
            body: { title: v.title, reason: v.reason, effect: v.effect },
          }),
        ),
      onSuccess: again,
    }),
    edit: useMutation({
      mutationFn: (v: {
        id: number;
        version: number;
        title: string;
        reason: string;
        effect: string;
        edits: Record<string, unknown>;
      }) =>
        body(
          api.PUT("/api/v1/changes/{id}", {
            params: { path: { id: v.id } },
            body: { version: v.version, title: v.title, reason: v.reason, effect: v.effect, edits: v.edits },
          }),
        ),
      onSuccess: (c) => {
        client.setQueryData(["change", c.id], c);
        void client.invalidateQueries({ queryKey: ["site"] });
      },
    }),
    act: useMutation({
      mutationFn: (v: { id: number; act: ChangeAct }) =>
        body(api.POST(`/api/v1/changes/{id}/${v.act}`, { params: { path: { id: v.id } } })),
      onSuccess: again,
    }),
    despite: useMutation({
      mutationFn: (v: { change: number; words: string; act: "promote" | "tidy" }) =>
        body(
          api.POST(`/api/v1/changes/{id}/${v.act}`, {
            params: { path: { id: v.change } },
            body: { despite: v.words },
          }),
        ),
      onSuccess: again,
    }),
    askApproval: useMutation({
      mutationFn: (v: { change: number; words: string }) =>
        body(
          api.POST("/api/v1/changes/{id}/approval", { params: { path: { id: v.change } }, body: { words: v.words } }),
        ),
      onSuccess: again,
    }),
    decide: useMutation({
      mutationFn: (v: { change: number; decision: "approve" | "refuse" | "question"; words: string; goes?: boolean }) =>
        body(
          api.POST("/api/v1/changes/{id}/approval/decision", {
            params: { path: { id: v.change } },
            body: { decision: v.decision, reason: v.words, goes: v.goes },
          }),
        ),
      onSuccess: again,
    }),
    withdraw: useMutation({
      mutationFn: (change: number) =>
        body(api.DELETE("/api/v1/changes/{id}/approval", { params: { path: { id: change } } })),
      onSuccess: again,
    }),
    describe: useMutation({
      mutationFn: (v: { id: number; version: number; title: string; reason: string; effect: string }) => {
        const { id, ...words } = v;
        return body(api.PUT("/api/v1/changes/{id}/words", { params: { path: { id } }, body: words }));
      },
      onSettled: again, // also when somebody else was first: what they wrote is met
    }),
    exclude: useMutation({
      mutationFn: (v: { change: number } & Schemas["ExcludeRequest"]) => {
        const { change, ...excluded } = v;
        return body(api.POST("/api/v1/changes/{id}/exclusions", { params: { path: { id: change } }, body: excluded }));
      },
      onSuccess: again,
    }),
    rollBack: useMutation({
      mutationFn: (v: { id: number; all: boolean }) =>
        body(api.POST("/api/v1/changes/{id}/rollback", { params: { path: { id: v.id } }, body: { all: v.all } })),
      onSuccess: again,
    }),
    takeOut: useMutation({
      mutationFn: (v: { id: number; restore: Record<string, boolean> }) =>
        body(
          api.POST("/api/v1/changes/{id}/take-out", { params: { path: { id: v.id } }, body: { restore: v.restore } }),
        ),
      onSuccess: again,
    }),
    expect: useMutation({
      mutationFn: (v: { change: number; expected?: Schemas["Expectation"] }) =>
        body(
          api.PUT("/api/v1/changes/{id}/expectation", {
            params: { path: { id: v.change } },
            body: { expected: v.expected },
          }),
        ),
      onSuccess: again,
    }),
    stepUp: useMutation({
      mutationFn: (v: { site: number; from: string; to: string; zone: string; mostLooks: number }) =>
        body(
          api.POST("/api/v1/sites/{id}/step-ups", {
            params: { path: { id: v.site } },
            body: { window: { from: v.from, to: v.to, zone: v.zone }, mostLooks: v.mostLooks },
          }),
        ),
      onSuccess: again,
    }),
    stopStepUp: useMutation({
      mutationFn: (change: number) =>
        body(api.POST("/api/v1/changes/{id}/step-up/stop", { params: { path: { id: change } } })),
      onSuccess: again,
    }),
  };
}
