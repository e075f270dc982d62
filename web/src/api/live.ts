import type { QueryClient } from "@tanstack/vue-query";
import { ref } from "vue";

/** Whether changes reach this page as they happen. */
export const connected = ref(true);

/** Reads again what the server says has changed, until the returned function is called. */
export function follow(client: QueryClient): () => void {
  const source = new EventSource("/api/v1/events");
  const read = (key: string, id?: number) => void client.invalidateQueries({ queryKey: id ? [key, id] : [key] });
  source.onopen = () => {
    if (!connected.value) void client.invalidateQueries();
    connected.value = true;
  };
  source.onerror = () => (connected.value = false);
  source.addEventListener("changed", (e: MessageEvent<string>) => {
    const n = JSON.parse(e.data) as { site?: number; round?: number; change?: number };
    if (n.round) read("round", n.round);
    if (n.change) read("change", n.change);
    if (n.site) read("site", n.site);
    read("sites");
    read("history");
    read("takings");
  });
  return () => {
    source.close();
    connected.value = true;
  };
}
