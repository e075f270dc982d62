import type { QueryClient } from "@tanstack/vue-query";
import { ref } from "vue";

/** Whether changes reach this page as they happen. */
export const connected = ref(true);

/**
 * Reads something again, in such a way that what is shown in the end was asked for after the last notice of it: what is
 * under way already is waited for, not cut off (notices can come faster than answers), and once more is enough for all
 * notices that came meanwhile.
 */
export function reader(client: QueryClient) {
  const again = new Map<string, boolean>();
  return async (...queryKey: (string | number)[]) => {
    const name = JSON.stringify(queryKey);
    const busy = again.has(name);
    again.set(name, true);
    if (busy) return;
    while (again.get(name)) {
      const underWay = client.getQueryCache().findAll({ queryKey, fetchStatus: "fetching" });
      await Promise.allSettled(underWay.map((q) => q.promise));
      again.set(name, false);
      // What nobody looks at is only marked, and read when somebody does.
      await client.invalidateQueries({ queryKey }, { cancelRefetch: false });
    }
    again.delete(name);
  };
}

/** What is computed of a whole site: read again soon after something changed there, and not with each look of a run. */
const slow = ["matrix", "coverage", "ledger", "exclusions", "settings", "parity", "test-plan", "kept", "promotions"];
const soon = 2_000;

const shortest = 1_000;
const longest = 30_000;

/** Reads again what the server says has changed, until the returned function is called. */
export function follow(client: QueryClient): () => void {
  const read = reader(client);
  let source: EventSource;
  let again: ReturnType<typeof setTimeout> | undefined;
  let later: ReturnType<typeof setTimeout> | undefined;
  let pause = shortest;
  function open() {
    again = undefined;
    source = new EventSource("/api/v1/events");
    source.onopen = () => {
      if (!connected.value) void client.invalidateQueries();
      connected.value = true;
      pause = shortest;
    };
    source.onerror = () => {
      connected.value = false;
      // A browser tries again by itself, but not when it was answered with an error: that is left to us. A session that is over shows by it.
      if (source.readyState !== EventSource.CLOSED) return;
      void client.invalidateQueries({ queryKey: ["session"] });
      again ??= setTimeout(open, pause);
      pause = Math.min(2 * pause, longest);
    };
    source.addEventListener("changed", (e: MessageEvent<string>) => changed(JSON.parse(e.data) as Notice));
  }
  function changed(n: Notice) {
    if (n.notices) return void read("notices");
    if (n.run) void read("run", n.run);
    if (n.change) void read("change", n.change);
    if (n.site) void read("site", n.site);
    void read("sites");
    void read("calendar");
    if (n.change || n.run) void read("comments");
    if (n.change || n.run) void read("rollouts");
    void read("history");
    void read("onboardings");
    later ??= setTimeout(() => {
      later = undefined;
      for (const key of slow) void read(key);
    }, soon);
  }
  open();
  return () => {
    clearTimeout(again);
    clearTimeout(later);
    source.close();
    connected.value = true;
  };
}

/** What the server tells. */
interface Notice {
  site?: number;
  run?: number;
  change?: number;
  notices?: boolean;
}
