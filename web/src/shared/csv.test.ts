import { describe, expect, it } from "vitest";
import { cell, csv } from "./csv";

// RFC 4180, section 2: lines end with CRLF; quotation marks around what has commas, quotation marks or line breaks, doubled inside.
describe("a table as CSV", () => {
  it("quotes what has to be quoted", () => {
    expect(
      csv([
        ["a", 'say "b"'],
        ["1,2", "x\ny"],
      ]),
    ).toBe('a,"say ""b"""\r\n"1,2","x\ny"\r\n');
  });
  it("is no formula, whatever a watched site calls itself", () => {
    expect(cell("=HYPERLINK(1)")).toBe("'=HYPERLINK(1)");
    expect(cell("@SUM(A1)")).toBe("'@SUM(A1)");
    expect(cell("-cmd|x")).toBe("'-cmd|x");
    expect(cell("-12")).toBe("-12");
    expect(cell("+3.5 %")).toBe("+3.5 %");
  });
});
