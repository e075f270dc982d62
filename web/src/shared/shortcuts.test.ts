import { afterEach, describe, expect, it } from "vitest";
import { isForPage, singleKeys } from "./shortcuts";

const key = (more: object = {}) => ({
  ctrlKey: false,
  metaKey: false,
  altKey: false,
  defaultPrevented: false,
  target: null,
  ...more,
});
const inside = (what: string) =>
  ({ closest: (s: string) => s.split(/, (?![^(]*\))/).includes(what) }) as unknown as EventTarget;

afterEach(() => (singleKeys.value = true));

describe("a key is for the page", () => {
  it("when it is pressed alone", () => {
    expect(isForPage(key())).toBe(true);
    for (const held of ["ctrlKey", "metaKey", "altKey"]) expect(isForPage(key({ [held]: true }))).toBe(false);
  });
  it("not where it is typed, nor behind a dialog", () => {
    for (const where of [
      "input:not([type=checkbox], [type=radio])",
      "textarea",
      "select",
      "[role=dialog]",
      "[role=alertdialog]",
    ])
      expect(isForPage(key({ target: inside(where) }))).toBe(false);
    expect(isForPage(key({ target: inside("button") }))).toBe(true);
  });
  it("not when somebody switched single keys off", () => {
    singleKeys.value = false;
    expect(isForPage(key())).toBe(false);
  });
});
