import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body, Problem, type Schemas } from "../api/client";

type Id = MaybeRefOrGetter<number>;
export type Finding = Schemas["FindingView"];
export type Run = Schemas["RunView"];
export type Proof = Schemas["Proof"];

export function useRun(id: Id) {
  return useQuery({
    queryKey: ["run", id],
    queryFn: () => body(api.GET("/api/v1/runs/{id}", { params: { path: { id: toValue(id) } } })),
  });
}

/** What was predicted of a run, and what became of it; nothing when nothing was. */
export function useRunPredictions(run: Id, over: MaybeRefOrGetter<boolean>) {
  return useQuery({
    queryKey: ["run", run, "predictions"],
    queryFn: async () => {
      try {
        return await body(api.GET("/api/v1/runs/{id}/predictions", { params: { path: { id: toValue(run) } } }));
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

/** What one run found and another did not. */
export function useRunsCompared(run: Id, other: Id) {
  return useQuery({
    queryKey: ["run", run, "compared", other],
    queryFn: () =>
      body(
        api.GET("/api/v1/runs/{id}/compare", {
          params: { path: { id: toValue(run) }, query: { with: toValue(other) } },
        }),
      ),
    enabled: () => toValue(other) > 0,
  });
}

/** What a run looked at so far. */
export function useLooks(run: Id) {
  return useQuery({
    queryKey: ["run", run, "looks"],
    queryFn: () => body(api.GET("/api/v1/runs/{id}/looks", { params: { path: { id: toValue(run) } } })),
  });
}

export function useProbes(run: Id) {
  return useQuery({
    queryKey: ["probes", run],
    queryFn: () => body(api.GET("/api/v1/runs/{id}/probes", { params: { path: { id: toValue(run) } } })),
  });
}

/** What is done in a run and with its findings, each reading again what it changed. */
export function useRunActs() {
  const client = useQueryClient();
  const again = () => client.invalidateQueries();
  return {
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
    stop: useMutation({
      mutationFn: (run: number) => body(api.POST("/api/v1/runs/{id}/stop", { params: { path: { id: run } } })),
      onSuccess: again,
    }),
    findCulprit: useMutation({
      mutationFn: (run: number) => body(api.POST("/api/v1/runs/{id}/find-culprit", { params: { path: { id: run } } })),
      onSuccess: again,
    }),
    removeCulprit: useMutation({
      mutationFn: (v: { run: number; culprit: number }) =>
        body(
          api.POST("/api/v1/runs/{id}/remove-culprit", {
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
