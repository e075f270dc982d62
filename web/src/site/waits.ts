/** Where that is which waits on a site. */
export function whereItWaits(s: { id: number; waitingFor: string; waitingId?: number }): string {
  if (s.waitingFor === "change") return `/changes/${s.waitingId}`;
  if (s.waitingFor === "rollout") return `/rollouts/${s.waitingId}`;
  if (s.waitingFor === "run") return `/runs/${s.waitingId}`;
  return `/sites/${s.id}`;
}
