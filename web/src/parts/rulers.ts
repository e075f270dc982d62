import type { Environment } from "../api/queries";

/** One thing that happened on an environment, as it is drawn on its ruler. */
export interface Sounding {
  key: string;
  env: number;
  at: number;
  kind:
    | "mark"
    | "try"
    | "promote"
    | "roll back"
    | "check"
    | "isolation test"
    | "later look"
    | "culprit search"
    | "outside"
    | "running";
  verdict: string;
  number: string;
  title: string;
  run?: number;
  /** Key of the mark a rollback went back to. */
  back?: string;
  column: number;
}

/** How many things are drawn; older ones are in the history. */
const shown = 14;

/** Lays the latest things of all environments on one axis, each in a column of its own, oldest first. */
export function soundings(envs: Environment[]): Sounding[] {
  const all: Sounding[] = [];
  envs.forEach((e, env) => {
    for (const r of e.runs) {
      if (r.state === "waiting") continue;
      const over = r.finishedAt !== null && r.finishedAt !== undefined;
      const mark = e.marks.find((m) => m.run === r.id);
      const looks = mark?.looks;
      all.push({
        key: `r${r.id}`,
        env,
        at: Date.parse(r.finishedAt ?? r.startedAt ?? r.createdAt),
        kind: over ? (r.kind as Sounding["kind"]) : "running",
        verdict: over ? r.verdict || "not checked" : "running",
        number: looks ? String(looks.done - looks.failed) : "",
        title: over ? r.summary : `${r.kind} under way`,
        run: r.id,
        back: r.kind === "roll back" ? markKey(e, r.target, r.id) : undefined,
        column: 0,
      });
    }
    for (const a of e.acts) {
      if (a.kind === "outside")
        all.push({
          key: `a${a.id}`,
          env,
          at: Date.parse(a.at),
          kind: "outside",
          verdict: "outside",
          number: "",
          title: a.note,
          column: 0,
        });
    }
  });
  all.sort((a, b) => a.at - b.at);
  const latest = all.slice(-shown);
  latest.forEach((s, i) => (s.column = i));
  return latest;
}

function markKey(e: Environment, fingerprint: string, before: number) {
  const m = e.marks.find((m) => m.fingerprint === fingerprint && m.run < before);
  return m && `r${m.run}`;
}
