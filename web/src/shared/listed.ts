import type { Directive } from "vue";

/**
 * Makes a table a list where there is no room for its columns: each cell says what its column is called. What the parts of
 * the table are for those who hear it is said too, since how they are laid out would otherwise take it away.
 */
function tell(table: HTMLTableElement) {
  const names: string[] = [];
  for (const th of table.tHead?.rows[table.tHead.rows.length - 1]?.cells ?? []) {
    for (let n = 0; n < th.colSpan; n++)
      names.push(th.querySelector(".visually-hidden") ? "" : (th.innerText.trim().split("\n")[0] ?? ""));
  }
  const set = (e: Element, name: string, value: string) => {
    if (e.getAttribute(name) !== value) e.setAttribute(name, value);
  };
  set(table, "role", "table");
  for (const part of table.querySelectorAll("thead, tbody")) set(part, "role", "rowgroup");
  for (const row of table.rows) {
    set(row, "role", "row");
    let column = 0;
    for (const cell of row.cells) {
      const head = cell.tagName === "TH";
      set(cell, "role", !head ? "cell" : row.parentElement === table.tHead ? "columnheader" : "rowheader");
      if (!head && row.parentElement !== table.tHead) set(cell, "data-label", names[column] ?? "");
      column += cell.colSpan;
    }
  }
}

export const vListed: Directive<HTMLTableElement> = { mounted: tell, updated: tell };
