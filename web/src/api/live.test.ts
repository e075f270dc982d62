import { QueryClient, QueryObserver } from "@tanstack/vue-query";
import { describe, expect, it, vi } from "vitest";
import { reader } from "./live";

/** A server whose answers are given when the test says so; each tells the state when it was asked. */
function server() {
  const open: { answer: () => void }[] = [];
  let state = "trying";
  let asked = 0;
  return {
    become: (s: string) => (state = s),
    ask: () => {
      asked++;
      const then = state;
      return new Promise<string>((resolve) => open.push({ answer: () => resolve(then) }));
    },
    answer: () => open.shift()?.answer(),
    asked: () => asked,
    open: () => open.length,
  };
}
const queryKey = ["change", 1];
const settle = () => new Promise((r) => setTimeout(r));

function shown(client: QueryClient, s: ReturnType<typeof server>) {
  const seen: string[] = [];
  const observer = new QueryObserver(client, { queryKey, queryFn: s.ask, staleTime: 5000, retry: false });
  const leave = observer.subscribe((r) => r.data && seen.push(r.data));
  return { seen, leave };
}

describe("what the server says has changed", () => {
  it("is read again although an older answer is still under way", async () => {
    const client = new QueryClient();
    const s = server();
    const read = reader(client);
    const view = shown(client, s); // its first answer is under way
    s.become("checked");
    void read("change", 1);
    await settle();
    expect(s.asked()).toBe(1);
    s.answer();
    await vi.waitFor(() => expect(s.asked()).toBe(2));
    s.answer();
    await vi.waitFor(() => expect(view.seen.at(-1)).toBe("checked"));
    view.leave();
  });

  it("is not forgotten when nobody looked while it was told", async () => {
    const client = new QueryClient();
    const s = server();
    const read = reader(client);
    shown(client, s).leave(); // left before the answer came
    s.become("checked");
    void read("change", 1);
    await settle();
    s.answer();
    await settle();
    const view = shown(client, s); // what came is not five seconds old, and too old all the same
    await vi.waitFor(() => expect(s.asked()).toBe(2));
    s.answer();
    await vi.waitFor(() => expect(view.seen.at(-1)).toBe("checked"));
    view.leave();
  });

  it("is shown on the way, however fast notices come", async () => {
    const client = new QueryClient();
    const s = server();
    const read = reader(client);
    const view = shown(client, s);
    for (const state of ["1 of 9", "2 of 9", "3 of 9", "4 of 9"]) {
      s.become(state);
      for (let i = 0; i < 5; i++) void read("change", 1);
      await settle();
      expect(s.open()).toBe(1); // one at a time, and none is cut off
      s.answer();
      await settle();
    }
    await vi.waitFor(() => expect(s.open()).toBe(1));
    s.answer();
    await vi.waitFor(() => expect(view.seen.at(-1)).toBe("4 of 9"));
    expect(view.seen).toContain("2 of 9");
    expect(s.asked()).toBeLessThan(8); // once more is enough for all that came meanwhile
    view.leave();
  });
});
