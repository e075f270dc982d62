import type { Directive } from "vue";

/**
 * Makes a table a list where there is no room for its columns: each cell says what its column is called. What the parts of
 * the table are for those who hear it is said too, since how they are laid out would otherwise take it away. A head that holds
 * more than its name says that by data-name.
 */
function tell(table: HTMLTableElement) {
  const names: string[] = [];
  for (const th of table.tHead?.rows[table.tHead.rows.length - 1]?.cells ?? []) {
    const text = th.querySelector(".visually-hidden") ? "" : th.textContent.replace(/[▲▼]/g, "").trim();
    for (let n = 0; n < th.colSpan; n++) names.push(th.dataset.name ?? text);
  }
  const set = (e: Element, name: string, value: string) => {
    if (e.getAttribute(name) !== value) e.setAttribute(name, value);
  };
  set(table, "role", "table");
  for (const part of table.querySelectorAll("thead, tbody")) set(part, "role", "rowgroup");
  const spanned: number[] = []; // by column, the row up to which a cell of an earlier one reaches
  [...table.rows].forEach((row, at) => {
    set(row, "role", "row");
    let column = 0;
    for (const cell of row.cells) {
      while ((spanned[column] ?? 0) > at) column++;
      const head = cell.tagName === "TH";
      set(cell, "role", !head ? "cell" : row.parentElement === table.tHead ? "columnheader" : "rowheader");
      if (row.parentElement !== table.tHead && (!head || cell.rowSpan > 1 || cell.getAttribute("scope") === "rowgroup"))
        set(cell, "data-label", names[column] ?? "");
      for (let n = 0; n < cell.colSpan; n++) spanned[column++] = at + cell.rowSpan;
    }
  });
}

export const vListed: Directive<HTMLTableElement> = { mounted: tell, updated: tell };
