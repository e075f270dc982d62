import { describe, expect, it } from "vitest";
import type { Schemas } from "../api/client";
import { changed, pairs } from "./requests";

const request = (url: string, status = 200) => ({ url, kind: "script", status }) as Schemas["Request"];

describe("requests beside those of the mark", () => {
  it("keeps another host's script apart from the site's own of the same path", () => {
    const site = [request("http://shop.test/"), request("http://shop.test/x.js"), request("http://pay.test/x.js", 500)];
    const was = [request("http://shop.test/"), request("http://shop.test/x.js"), request("http://pay.test/x.js")];
    const list = pairs(was, site);
    expect(list.map((p) => p.name)).toEqual(["/", "/x.js", "pay.test/x.js"]);
    expect(list.filter(changed).map((p) => p.name)).toEqual(["pay.test/x.js"]);
  });

  it("shows each time that an address was asked for", () => {
    const list = pairs(
      [request("http://shop.test/"), request("http://shop.test/api")],
      [request("http://shop.test/"), request("http://shop.test/api"), request("http://shop.test/api", 429)],
    );
    expect(list.map((p) => [p.name, p.was?.status, p.is?.status])).toEqual([
      ["/", 200, 200],
      ["/api", 200, 200],
      ["/api (2)", undefined, 429],
    ]);
  });

  it("takes two environments of one site for the same", () => {
    const list = pairs([request("http://staging.shop.test/a")], [request("http://shop.test/a")]);
    expect(list).toHaveLength(1);
    expect(changed(list[0]!)).toBe(false);
  });

  it("shows what is no address as it is", () => {
    expect(pairs([], [request("not an address")])[0]!.name).toBe("not an address");
  });
});
