/** Tables as CSV (RFC 4180). */

/** A cell: quoted where it has to be, and never read as a formula by a spreadsheet, since much of it comes from watched sites. */
export function cell(text: string): string {
  const plain = /^[=+\-@\t\r]/.test(text) && !/^[+-]?[\d.,\s]+%?$/.test(text) ? `'${text}` : text;
  return /[",\r\n]/.test(plain) || plain !== plain.trim() ? `"${plain.replaceAll('"', '""')}"` : plain;
}

export const csv = (rows: string[][]) => rows.map((r) => r.map(cell).join(",") + "\r\n").join("");

/** What is written in the rows of a table: no buttons, and of fields what is in them. */
export function rowsOf(table: HTMLTableElement): string[][] {
  return [...table.rows].filter((r) => r.parentElement !== table.tFoot).map((r) => [...r.cells].map(textOf));
}

function textOf(of: HTMLTableCellElement): string {
  const copy = of.cloneNode(true) as HTMLElement;
  const fields = of.querySelectorAll<HTMLInputElement>("input, select, textarea");
  copy.querySelectorAll("input, select, textarea").forEach((f, i) => {
    const from = fields[i]!;
    f.replaceWith(from.type === "checkbox" ? (from.checked ? "yes" : "no") : ` ${from.value} `);
  });
  copy.querySelectorAll("button").forEach((b) => {
    const code = b.querySelector("code")?.textContent; // a fingerprint is a button that copies it whole
    b.replaceWith(code ? b.title.replace(/^Copy /, "") || code : "");
  });
  copy.querySelectorAll("svg, [aria-hidden=true]").forEach((e) => e.remove());
  copy.querySelectorAll("p, li, div, br").forEach((e) => e.append(" "));
  return (copy.textContent ?? "").replace(/\s+/g, " ").trim();
}

/** Hands a table to the reader as a file. */
export function saveCsv(name: string, text: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type: "text/csv;charset=utf-8" }));
  link.download = `${name}.csv`;
  link.click();
  URL.revokeObjectURL(link.href);
}
