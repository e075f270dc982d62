/** How many settings of each risk are in use, from 0 to 3. */
export type Profile = readonly number[];

/** What a setting of each risk does to sites, as catalogues say it. */
export const riskWords = [
  "cannot break a page",
  "rarely breaks anything",
  "breaks a page now and then",
  "breaks some sites",
];

/** The risks of a profile, deepest first, one for each setting that can break something. */
export function soundings(p: Profile): number[] {
  const out: number[] = [];
  for (let r = p.length - 1; r > 0; r--) for (let n = 0; n < p[r]!; n++) out.push(r);
  return out;
}

/** What a change does to risk, in a sentence. */
export function inShort(before: Profile, after: Profile): string {
  const deepest = (p: Profile) => Math.max(0, ...p.map((n, r) => (n ? r : 0)));
  const many = (p: Profile) => soundings(p).length;
  if (before.every((n, r) => n === after[r])) return "As much can break as before.";
  const d = [deepest(before), deepest(after)] as const;
  if (d[1] !== d[0]) {
    const word = riskWords[d[1]]!;
    return d[1] > d[0]
      ? `Bolder: a setting is now in use that ${word}.`
      : `More cautious: the boldest setting left ${word}.`;
  }
  const more = (after[d[1]] ?? 0) - (before[d[1]] ?? 0);
  if (more)
    return `${more > 0 ? "Bolder" : "More cautious"}: ${Math.abs(more)} ${more > 0 ? "more" : "fewer"} that ${Math.abs(more) === 1 ? riskWords[d[1]]! : riskWords[d[1]]!.replace("breaks", "break")}.`;
  return many(after) > many(before)
    ? "A little bolder."
    : many(after) < many(before)
      ? "A little more cautious."
      : "Other settings, as bold as before.";
}
