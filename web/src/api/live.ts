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

/** Reads again what the server says has changed, until the returned function is called. */
export function follow(client: QueryClient): () => void {
  const source = new EventSource("/api/v1/events");
  const read = reader(client);
  source.onopen = () => {
    if (!connected.value) void client.invalidateQueries();
    connected.value = true;
  };
  source.onerror = () => (connected.value = false);
  source.addEventListener("changed", (e: MessageEvent<string>) => {
    const n = JSON.parse(e.data) as { site?: number; run?: number; change?: number; notices?: boolean };
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
  });
  return () => {
    source.close();
    connected.value = true;
  };
}
