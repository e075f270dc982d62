import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body, done, Problem, type Schemas } from "./client";

type Id = MaybeRefOrGetter<number>;

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

/** The kinds of speed layers that there are. */
export function useKinds() {
  return useQuery({ queryKey: ["kinds"], queryFn: () => body(api.GET("/api/v1/speed-layers")), staleTime: Infinity });
}

export function useRun(id: Id) {
  return useQuery({
    queryKey: ["run", id],
    queryFn: () => body(api.GET("/api/v1/runs/{id}", { params: { path: { id: toValue(id) } } })),
  });
}

/** What a change will do to staging; asked again when it would put other settings in force. */
export function useForesight(change: Id, fingerprint: MaybeRefOrGetter<string>) {
  return useQuery({
    queryKey: ["change", change, "foresight", fingerprint],
    queryFn: () => body(api.GET("/api/v1/changes/{id}/foresight", { params: { path: { id: toValue(change) } } })),
    placeholderData: keepPreviousData,
  });
}

/** What was foreseen of a run, and what became of it; nothing when nothing was. */
export function useRunForesight(run: Id, over: MaybeRefOrGetter<boolean>) {
  return useQuery({
    queryKey: ["run", run, "foresight"],
    queryFn: async () => {
      try {
        return await body(api.GET("/api/v1/runs/{id}/foresight", { params: { path: { id: toValue(run) } } }));
      } catch (e) {
        if (e instanceof Problem && e.status === 404) return null;
        throw e;
      }
    },
    enabled: () => toValue(over),
  });
}

export function useProof(finding: MaybeRefOrGetter<number | undefined>) {
  return useQuery({
    queryKey: ["proof", finding],
    queryFn: () => body(api.GET("/api/v1/findings/{id}/proof", { params: { path: { id: toValue(finding)! } } })),
    enabled: () => toValue(finding) !== undefined,
    staleTime: Infinity,
  });
}

export function useSettings(id: Id) {
  return useQuery({
    queryKey: ["settings", id],
    queryFn: () => body(api.GET("/api/v1/sites/{id}/settings", { params: { path: { id: toValue(id) } } })),
  });
}

export function useProbes(run: Id) {
  return useQuery({
    queryKey: ["probes", run],
    queryFn: () => body(api.GET("/api/v1/runs/{id}/probes", { params: { path: { id: toValue(run) } } })),
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

export function useBundles() {
  return useQuery({ queryKey: ["bundles"], queryFn: () => body(api.GET("/api/v1/bundles")) });
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

export type ChangeAct = "try" | "promote" | "tidy" | "rebase" | "split" | "discard" | "accept";

/** Everything a person can do, each reading again what it changed. */
export function useActs() {
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
    exclude: useMutation({
      mutationFn: (v: { change: number; key: string; pattern: string; reason: string; finding?: number }) =>
        body(
          api.POST("/api/v1/changes/{id}/exclusions", {
            params: { path: { id: v.change } },
            body: { key: v.key, pattern: v.pattern, reason: v.reason, finding: v.finding },
          }),
        ),
      onSuccess: again,
    }),
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
    tick: useMutation({
      mutationFn: (v: { run: number; item: number; done: boolean }) =>
        body(
          api.PUT("/api/v1/runs/{id}/task/{item}", {
            params: { path: { id: v.run, item: v.item } },
            body: { done: v.done },
          }),
        ),
      onSuccess: again,
    }),
    completeTask: useMutation({
      mutationFn: (v: { run: number; file?: string }) =>
        body(api.POST("/api/v1/runs/{id}/task", { params: { path: { id: v.run } }, body: { file: v.file } })),
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
    stop: useMutation({
      mutationFn: (run: number) => body(api.POST("/api/v1/runs/{id}/stop", { params: { path: { id: run } } })),
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
    climb: useMutation({
      mutationFn: (v: { site: number; from: string; to: string; zone: string; mostLooks: number }) =>
        body(
          api.POST("/api/v1/sites/{id}/climbs", {
            params: { path: { id: v.site } },
            body: { window: { from: v.from, to: v.to, zone: v.zone }, mostLooks: v.mostLooks },
          }),
        ),
      onSuccess: again,
    }),
    stopClimb: useMutation({
      mutationFn: (change: number) =>
        body(api.POST("/api/v1/changes/{id}/climb/stop", { params: { path: { id: change } } })),
      onSuccess: again,
    }),
    findCulprit: useMutation({
      mutationFn: (run: number) => body(api.POST("/api/v1/runs/{id}/find-culprit", { params: { path: { id: run } } })),
      onSuccess: again,
    }),
    leaveOut: useMutation({
      mutationFn: (v: { run: number; culprit: number }) =>
        body(
          api.POST("/api/v1/runs/{id}/leave-out", {
            params: { path: { id: v.run } },
            body: { culprit: v.culprit },
          }),
        ),
      onSuccess: again,
    }),
    enough: useMutation({
      mutationFn: (run: number) => body(api.POST("/api/v1/runs/{id}/enough", { params: { path: { id: run } } })),
      onSuccess: again,
    }),
    accept: useMutation({
      mutationFn: (v: { finding: number } & Schemas["AcceptBody"]) => {
        const { finding, ...decision } = v;
        return body(api.POST("/api/v1/findings/{id}/accept", { params: { path: { id: finding } }, body: decision }));
      },
      onSuccess: again,
    }),
    mask: useMutation({
      mutationFn: (v: { finding: number } & Schemas["MaskBody"]) => {
        const { finding, ...mask } = v;
        return body(api.POST("/api/v1/findings/{id}/mask", { params: { path: { id: finding } }, body: mask }));
      },
      onSuccess: again,
    }),
    addHost: useMutation({
      mutationFn: (finding: number) =>
        body(api.POST("/api/v1/findings/{id}/add-host", { params: { path: { id: finding } } })),
      onSuccess: again,
    }),
  };
}

export type Finding = Schemas["FindingView"];
export type Change = Schemas["ChangeView"];
export type Run = Schemas["RunView"];
export type Proof = Schemas["Proof"];
export type Environment = Schemas["EnvironmentView"];
export type Site = Schemas["SiteView"];
