import { computed, ref } from "vue";
import { merge, type Edits, type Merge } from "./merge";

/** What the server has of the edits, and as which version. */
export interface Version {
  version: number;
  edits: Edits;
}

export interface Saving {
  /** Saves edits on top of a version; throws what `conflict` knows when somebody else saved first. */
  send: (version: number, edits: Edits) => Promise<Version>;
  /** Reads what the server has now. */
  reread: () => Promise<Version>;
  conflict: (e: unknown) => boolean;
}

const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);

/**
 * Edits that are saved as they are made. They stand on the version that they were made on, and not on whatever the server
 * has by now: so what somebody else saved meanwhile, also after a save was refused, is met and laid beside, never overwritten.
 */
export function useSaving(with_: Saving) {
  const edits = ref<Edits>({});
  let base: Version | undefined;
  const dirty = ref(false);
  const busy = ref(false);
  const trouble = ref<unknown>();
  const question = ref<Merge>();

  /** What the server has; it is taken unless something is not saved here. */
  function take(theirs: Version) {
    if (base && (dirty.value || theirs.version < base.version)) return;
    base = { version: theirs.version, edits: { ...theirs.edits } };
    edits.value = { ...theirs.edits };
  }

  /** What the acts of this page changed, the newest last: of each edit what it was and what it became. */
  const past = ref<{ key: string; before: unknown; after: unknown }[][]>([]);
  /** Keeps what an act changed, so that it can be undone. */
  function did(before: Edits, after: Edits) {
    const keys = [...new Set([...Object.keys(before), ...Object.keys(after)])].filter(
      (k) => !same(before[k], after[k]),
    );
    if (keys.length)
      past.value = [...past.value, keys.map((key) => ({ key, before: before[key], after: after[key] }))].slice(-50);
  }

  function set(to: Edits) {
    did(edits.value, to);
    put(to);
  }
  /** Takes back the last act of this page. An edit that somebody has changed since stays as it is. */
  function undo() {
    const act = past.value.at(-1);
    if (!act) return;
    past.value = past.value.slice(0, -1);
    const to = { ...edits.value };
    for (const { key, before, after } of act) {
      if (!same(to[key], after)) continue;
      if (before === undefined) delete to[key];
      else to[key] = before;
    }
    put(to);
  }
  const undoable = computed(() => past.value.length > 0 && !question.value);

  function put(to: Edits) {
    edits.value = to;
    dirty.value = true;
    void save();
  }

  let saving: Promise<void> | undefined;
  /** Saves what is not saved, and what is edited meanwhile. One at a time. */
  function save(): Promise<void> {
    saving ??= go().finally(() => (saving = undefined));
    return saving;
  }
  async function go() {
    busy.value = true;
    trouble.value = undefined;
    try {
      while (dirty.value && base && !question.value) {
        const sent = { ...edits.value };
        try {
          const saved = await with_.send(base.version, sent);
          base = { version: saved.version, edits: { ...saved.edits } };
          if (same(sent, edits.value)) {
            edits.value = { ...saved.edits };
            dirty.value = false;
          }
        } catch (e) {
          if (!with_.conflict(e)) throw e;
          const theirs = await with_.reread();
          const m = merge(base.edits, theirs.edits, edits.value);
          base = { version: theirs.version, edits: { ...theirs.edits } };
          edits.value = m.both;
          if (m.asked.length) question.value = m;
        }
      }
    } catch (e) {
      trouble.value = e;
    } finally {
      busy.value = false;
    }
  }

  /** The question who is right is answered. */
  function answer(all: Edits) {
    question.value = undefined;
    set(all);
  }

  /** Waits until all is saved; false when something is not. */
  async function settled(): Promise<boolean> {
    if (dirty.value) await save();
    return !dirty.value;
  }

  const state = computed(() => (busy.value ? "saving" : dirty.value ? "not saved" : "saved"));
  return { undo, undoable, did, edits, state, trouble, question, take, set, answer, settled };
}
