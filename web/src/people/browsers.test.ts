import { expect, test } from "vitest";
import { browserOf } from "./browsers";

test("a browser is told by its name, its version and its system", () => {
  const linux = "Mozilla/5.0 (X11; Linux x86_64)";
  expect(browserOf(`${linux} AppleWebKit/537.36 (KHTML, like Gecko) Chrome/140.0.0.0 Safari/537.36`)).toBe(
    "Chromium 140 on Linux",
  );
  expect(browserOf("Mozilla/5.0 (Windows NT 10.0; rv:143.0) Gecko/20100101 Firefox/143.0")).toBe(
    "Firefox 143 on Windows",
  );
  expect(
    browserOf(
      "Mozilla/5.0 (iPhone; CPU iPhone OS 18_0 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/18.0 Mobile/15E148 Safari/604.1",
    ),
  ).toBe("Safari 18 on iOS");
  expect(browserOf("Mozilla/5.0 (Windows NT 10.0) AppleWebKit/537.36 Chrome/140.0.0.0 Safari/537.36 Edg/140.0")).toBe(
    "Edge 140 on Windows",
  );
  expect(browserOf("curl/8.0")).toBe("curl/8.0");
  expect(browserOf("")).toBe("An unknown browser");
});
