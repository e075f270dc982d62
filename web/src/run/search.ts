import type { Schemas } from "../api/client";
import { counted } from "../shared/wording";

type Search = Schemas["SearchView"];
type Try = Schemas["SearchTry"];

/** What is known of the edits so far, in a sentence. */
export function knownOf(s: Search): string {
  const n = (state: string) => s.edits.filter((e) => e.state === state).length;
  const guilty = n("culprit") + n("together");
  const said = [];
  if (guilty) said.push(`${guilty} found`);
  said.push(`${n("suspected")} of ${s.edits.length} edits suspected`);
  if (n("innocent")) said.push(`${n("innocent")} break nothing`);
  return said.join(", ") + ".";
}

/** What a try came to, in words. */
export function tryTitle(t: Try): string {
  const rounds = t.rounds ? `, in ${t.shown} of ${counted(t.rounds, "look")}` : "";
  const from = t.fromRun ? `, known from run ${t.fromRun}` : "";
  const said = { passes: "does not show", fails: "shows", undecided: `not decided. ${t.why ?? ""}` }[t.outcome];
  return (said + rounds + from).trim();
}
