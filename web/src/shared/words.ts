/** What the words mean that are not the trade's own, or that are used here in one sense only. */

export interface Word {
  word: string;
  /** One or two sentences, shown at the word. */
  means: string;
  /** Ours; all others are the trade's. */
  ours?: true;
}

export const words = {
  mark: {
    word: "mark",
    means:
      "A revision of one environment together with the evidence that it works: a proven state to roll back to. It is taken by looking at everything twice.",
    ours: true,
  },
  bundle: {
    word: "bundle",
    means: "A named set of values, from cautious to bold, held by role so that it fits every speed layer.",
    ours: true,
  },
  look: { word: "look", means: "One page seen by one persona on one device in a run.", ours: true },
  persona: {
    word: "persona",
    means:
      "Who looks at a page: a visitor, a visitor with a cart, a customer, a member, an editor. Its private texts are what nobody else may see.",
    ours: true,
  },
  run: {
    word: "run",
    means:
      "One piece of work on one environment: a mark, try, check, promotion, rollback, cache isolation test or measurement.",
  },
  verdict: {
    word: "verdict",
    means:
      "How a run ended: clear, broken, unsure (a person must look) or not checked (it could not look, which never counts as clear).",
  },
  finding: {
    word: "finding",
    means: "One difference that a run reports. It is open, accepted as expected, or gone.",
  },
  change: {
    word: "change",
    means: "A proposed set of edits to settings and exclusions, with its reason and the effect expected.",
  },
  exclusion: {
    word: "exclusion",
    means: "A recorded exception: what is excluded, from which action, where, why, on what evidence and until when.",
  },
  isolation: {
    word: "cache isolation test",
    means: "Requests that show whether anybody is served what is not theirs.",
  },
  control: {
    word: "control look",
    means: "The same look with the earlier settings, to see whether a finding goes when the change goes.",
  },
  culprit: {
    word: "culprit search",
    means: "Finds the smallest part of a change that breaks the site, by trying parts of it on staging.",
  },
  exceptions: {
    word: "exception search",
    means: "Finds the fewest exclusions with which a culprit works.",
  },
  publishing: {
    word: "publishing test",
    means: "What an editor publishes on staging, and undoes, to see that pages show it in time. Never on production.",
  },
  mask: {
    word: "mask",
    means: "A part of a page that may differ, said by a person or learned when a mark was taken.",
  },
  plan: {
    word: "test plan",
    means: "The pages, personas, devices, journeys and publishing tests that runs use.",
  },
  revision: {
    word: "revision, fingerprint",
    means:
      "One immutable full set of values, and the SHA-256 of its canonical JSON (RFC 8785). The same fingerprint means the same settings.",
  },
  role: {
    word: "role of a setting",
    means: "What a setting means, whatever a speed layer calls it: the same role on two sites does the same work.",
  },
  connector: {
    word: "connector",
    means:
      "How Tide Marker talks to one environment's speed layer. Without one, settings are changed by hand with a checklist.",
  },
  drift: { word: "drift", means: "Settings that were changed outside Tide Marker: accept them, or revert them." },
  watch: {
    word: "watch, settled",
    means:
      "After a promotion production is checked again as pages expire and tokens age. When all of that is over and clear, the change is settled.",
  },
  tidy: {
    word: "tidy",
    means: "A change that deletes data. No rollback restores it, so it is never part of another promotion.",
  },
  "step up": {
    word: "step up",
    means:
      "Tries one bundle after the other on staging, finds what breaks, and ends with one checked change that can be promoted.",
  },
  rollout: { word: "rollout, wave", means: "A settled change copied to other sites, promoted some sites at a time." },
  window: { word: "freeze, window", means: "When nothing is promoted, and the only times at which something is." },
} satisfies Record<string, Word>;

export type WordKey = keyof typeof words;
