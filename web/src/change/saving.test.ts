import { describe, expect, it } from "vitest";
import type { Edits } from "./merge";
import { useSaving, type Version } from "./saving";

/** A server that keeps a version, as the API does. */
class Server {
  now: Version = { version: 1, edits: {} };
  refuses = "";
  saves = 0;
  private waiting: (() => void)[] = [];
  slow = false;
  async send(version: number, edits: Edits): Promise<Version> {
    this.saves++;
    if (this.slow) await new Promise<void>((go) => this.waiting.push(go));
    if (this.refuses) throw new Error(this.refuses);
    if (version !== this.now.version) throw new Conflict();
    this.now = { version: version + 1, edits: { ...edits } };
    return this.now;
  }
  answer() {
    this.waiting.shift()!();
  }
  /** Somebody else saves. */
  other(edits: Edits) {
    this.now = { version: this.now.version + 1, edits };
  }
}
class Conflict extends Error {}

function bench() {
  const server = new Server();
  const s = useSaving({
    send: (v, e) => server.send(v, e),
    reread: async () => server.now,
    conflict: (e) => e instanceof Conflict,
  });
  s.take(server.now);
  return { server, s };
}

describe("saving as one edits", () => {
  it("says whether it is saved", async () => {
    const { server, s } = bench();
    server.slow = true;
    s.set({ a: 1 });
    expect(s.state.value).toBe("saving");
    server.answer();
    expect(await s.settled()).toBe(true);
    expect(s.state.value).toBe("saved");
    expect(server.now.edits).toEqual({ a: 1 });
  });

  // After a refused save a notice brought the other person's version, and the next save sent their version with old edits.
  it("never overwrites what somebody saved after a save here was refused", async () => {
    const { server, s } = bench();
    server.refuses = "a is wrong";
    s.set({ a: "wrong" });
    expect(await s.settled()).toBe(false);
    expect(s.state.value).toBe("not saved");
    expect((s.trouble.value as Error).message).toBe("a is wrong");
    server.refuses = "";
    server.other({ theirs: 1 });
    s.take(server.now); // the notice
    expect(s.edits.value).toEqual({ a: "wrong" });
    s.set({ a: "right" });
    expect(await s.settled()).toBe(true);
    expect(server.now.edits).toEqual({ theirs: 1, a: "right" });
  });

  it("asks where both set the same, and saves nothing before it is answered", async () => {
    const { server, s } = bench();
    server.other({ a: "theirs", b: 2 });
    s.set({ a: "mine" });
    expect(await s.settled()).toBe(false);
    expect(s.question.value?.asked).toEqual([{ key: "a", theirs: "theirs", yours: "mine" }]);
    expect(server.now.edits).toEqual({ a: "theirs", b: 2 });
    s.answer({ a: "mine", b: 2 });
    expect(await s.settled()).toBe(true);
    expect(server.now.edits).toEqual({ a: "mine", b: 2 });
  });

  it("saves what was edited while it was saving", async () => {
    const { server, s } = bench();
    server.slow = true;
    s.set({ a: 1 });
    s.set({ a: 2 });
    server.answer();
    server.slow = false;
    expect(await s.settled()).toBe(true);
    expect(server.now.edits).toEqual({ a: 2 });
    expect(server.saves).toBe(2);
  });

  it("takes a bundle that was applied meanwhile together with what is not saved here", async () => {
    const { server, s } = bench();
    server.refuses = "b is wrong";
    s.set({ b: "wrong" });
    await s.settled();
    server.refuses = "";
    server.other({ bundle: true });
    s.take(server.now);
    s.set({});
    expect(await s.settled()).toBe(true);
    expect(server.now.edits).toEqual({ bundle: true });
  });

  it("does not go back to an older version that a slow read brings", async () => {
    const { server, s } = bench();
    const old = server.now;
    s.set({ a: 1 });
    await s.settled();
    s.take(old);
    expect(s.edits.value).toEqual({ a: 1 });
  });

  it("takes back act by act what was done here", async () => {
    const { server, s } = bench();
    expect(s.undoable.value).toBe(false);
    s.set({ a: 1 });
    s.set({ a: 2, b: true });
    await s.settled();
    s.undo();
    expect(s.edits.value).toEqual({ a: 1 });
    await s.settled();
    expect(server.now.edits).toEqual({ a: 1 });
    s.undo();
    await s.settled();
    expect(server.now.edits).toEqual({});
    expect(s.undoable.value).toBe(false);
    s.undo();
    expect(s.state.value).toBe("saved");
  });

  it("takes back nothing that somebody else has changed since", async () => {
    const { server, s } = bench();
    s.set({ a: 1, b: 1 });
    await s.settled();
    server.other({ a: 5, b: 1, c: 9 });
    s.take(server.now);
    s.undo();
    await s.settled();
    expect(server.now.edits).toEqual({ a: 5, c: 9 });
  });

  it("takes back what a bundle put in", async () => {
    const { server, s } = bench();
    s.set({ a: 1 });
    await s.settled();
    server.other({ a: 2, b: 3 }); // applied by the server
    s.did({ a: 1 }, { a: 2, b: 3 });
    s.take(server.now);
    s.undo();
    await s.settled();
    expect(server.now.edits).toEqual({ a: 1 });
  });
});
