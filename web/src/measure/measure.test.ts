import { describe, expect, it } from "vitest";
import {
  axisEnd,
  casesOf,
  frameAt,
  onAxis,
  overall,
  place,
  reach,
  resultOf,
  shiftSpan,
  thresholdAt,
  type Comparison,
} from "./measure";
import { differenceOf, valueOf } from "../shared/wording";

const c = (more: Partial<Comparison>) =>
  ({
    metric: "load",
    unit: "ms",
    device: "phone",
    case: "phone",
    before: 1000,
    after: 800,
    shift: -200,
    interval: [-300, -100],
    result: "better",
    ...more,
  }) as Comparison;

describe("a measurement", () => {
  it("calls nothing too noisy of which there are too few loads", () => {
    expect(resultOf({ result: "too noisy", runs: 3 }, true)).toBe("too few loads to say");
    expect(resultOf({ result: "too noisy", runs: 8 }, true)).toBe("too noisy");
    expect(resultOf({ result: "", runs: 3 }, false)).toBe("not decided yet");
    expect(differenceOf("ms", -0.3)).toBe("0 ms");
    expect(differenceOf("1", 0)).toBe("0");
  });

  it("says when content shifted", () => {
    expect(shiftSpan({ from: 420, to: 1910 })).toBe("from 420 ms to 1.9 s");
    expect(shiftSpan({ from: 420.2, to: 420.4 })).toBe("at 420 ms");
  });

  it("writes values and differences with their units", () => {
    expect(valueOf("ms", 940.4)).toBe("940 ms");
    expect(valueOf("ms", 2340)).toBe("2.3 s");
    expect(valueOf("bytes", 105129)).toBe("105.1 kB");
    expect(valueOf("1", 0.384)).toBe("0.38");
    expect(differenceOf("ms", -360)).toBe("−360 ms");
    expect(differenceOf("1", 7)).toBe("+7");
  });

  it("puts intervals on one scale", () => {
    expect(reach([c({}), c({ interval: [-500, -100] })])).toBe(0.5);
    expect(reach([c({ before: 0 })])).toBe(0.05);
    expect(place(c({}), 0.5)).toEqual({ left: 20, width: 20, at: 30 });
    expect(place(c({ interval: undefined }), 0.5)).toBeUndefined();
  });

  it("shows what became worse first", () => {
    const list = [
      c({ result: "too noisy" }),
      c({ result: "better" }),
      c({ result: "worse" }),
      c({ page: "/", result: "worse" }),
    ];
    expect(overall(list, "phone").map((x) => x.result)).toEqual(["worse", "better", "too noisy"]);
    expect(overall(list, "desktop")).toEqual([]);
    expect(casesOf([...list, c({ case: "phone, repeat visit" })])).toEqual(["phone", "phone, repeat visit"]);
  });

  it("draws thresholds where they are on the scale, and not beyond it", () => {
    expect(thresholdAt(c({ before: 2000, good: 2500 }), 0.5)).toBe(75);
    expect(thresholdAt(c({ before: 1000, good: 2500 }), 0.5)).toBeUndefined();
    expect(thresholdAt(c({}), 0.5)).toBeUndefined();
  });

  it("puts moments on one time axis, and frames under them", () => {
    expect(axisEnd([430, 1130])).toBe(1200);
    expect(axisEnd([])).toBe(200);
    expect(axisEnd([4300])).toBe(5000);
    expect(onAxis(600, 1200)).toBe(50);
    expect(onAxis(1, 0)).toBe(0);
    const film = [{ at: 0 }, { at: 400 }, { at: 900 }];
    expect(frameAt(film, 500)).toEqual({ at: 400 });
    expect(frameAt([{ at: 10 }], 5)).toBeUndefined();
  });
});
