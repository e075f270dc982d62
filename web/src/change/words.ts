/** What a change is called, why it is made and what should get better. */
export interface Words {
  title: string;
  reason: string;
  effect: string;
}

const names = { title: "the title", reason: "the reason", effect: "what should get better" } as const;

/**
 * Puts together what was written here with what somebody else wrote since it `was` read: what only one of them changed is theirs,
 * what both did is met, and stays as it is here.
 */
export function putTogether(
  was: Words,
  theirs: Words,
  mine: Words,
): { words: Words; met: { what: string; theirs: string }[] } {
  const words = { ...mine };
  const met: { what: string; theirs: string }[] = [];
  for (const k of ["title", "reason", "effect"] as const) {
    if (theirs[k] === was[k] || theirs[k] === mine[k]) continue;
    if (mine[k] === was[k]) words[k] = theirs[k];
    else met.push({ what: names[k], theirs: theirs[k] });
  }
  return { words, met };
}
