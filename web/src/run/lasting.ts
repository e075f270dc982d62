import type { Schemas } from "../api/client";

/** A time in words that claim no more than is known. */
export function lasting(seconds: number): string {
  if (seconds < 90) return `about ${Math.max(5, Math.round(seconds / 5) * 5)} seconds`;
  return `about ${Math.round(seconds / 60)} minutes`;
}

const clock = (seconds: number) => {
  const s = Math.max(0, Math.floor(seconds));
  return `${Math.floor(s / 60)}:${String(s % 60).padStart(2, "0")}`;
};

/** How long a run has taken, and how long it will, by how long such runs took lately. */
export function lastsFor(elapsed: number, typical?: Schemas["Typical"]): string {
  const so = `${clock(elapsed)} so far`;
  if (!typical) return `${so}; no earlier run of this kind to estimate the rest from`;
  const by = typical.of === 1 ? "the last such run" : `the last ${typical.of} such runs`;
  const left = typical.seconds - elapsed;
  return left > 0 ? `${so}, ${lasting(left)} left by ${by}` : `${so}, longer than ${by} (${clock(typical.seconds)})`;
}
