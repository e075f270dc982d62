import { computed, nextTick, ref, toValue, type MaybeRefOrGetter } from "vue";

const steps: Record<string, [number, number]> = {
  ArrowUp: [-1, 0],
  ArrowDown: [1, 0],
  ArrowLeft: [0, -1],
  ArrowRight: [0, 1],
};

/** Where a key leads in a grid of cells, within its edges; undefined when the key leads nowhere. */
export function stepped(
  key: string,
  ctrl: boolean,
  [row, column]: [number, number],
  rows: number,
  columns: number,
): [number, number] | undefined {
  const step = steps[key];
  if (step)
    return [Math.min(rows - 1, Math.max(0, row + step[0])), Math.min(columns - 1, Math.max(0, column + step[1]))];
  if (key === "Home") return [ctrl ? 0 : row, 0];
  if (key === "End") return [ctrl ? rows - 1 : row, columns - 1];
  return undefined;
}

/**
 * A grid of buttons with one tab stop and arrow keys between them (WAI-ARIA, grid pattern). Each button has data-cell with
 * its row and column; a place without a button is passed over.
 */
export function useGrid(rows: MaybeRefOrGetter<number>, columns: MaybeRefOrGetter<number>) {
  const at = ref<[number, number]>([0, 0]);
  const here = computed<[number, number]>(() => [
    Math.min(at.value[0], Math.max(0, toValue(rows) - 1)),
    Math.min(at.value[1], Math.max(0, toValue(columns) - 1)),
  ]);
  const cellOf = (grid: Element, [r, c]: [number, number]) =>
    grid.querySelector<HTMLElement>(`[data-cell="${r},${c}"]`);
  function onKeydown(e: KeyboardEvent) {
    const grid = e.currentTarget as Element;
    let from = here.value;
    for (;;) {
      const to = stepped(e.key, e.ctrlKey, from, toValue(rows), toValue(columns));
      if (!to) return;
      e.preventDefault();
      if (to[0] === from[0] && to[1] === from[1]) return;
      from = to;
      const cell = cellOf(grid, to);
      if (!cell) {
        if (e.key === "Home" || e.key === "End") return;
        continue;
      }
      at.value = to;
      void nextTick(() => cell.focus());
      return;
    }
  }
  const tab = (row: number, column: number) => (here.value[0] === row && here.value[1] === column ? 0 : -1);
  const put = (row: number, column: number) => (at.value = [row, column]);
  return { onKeydown, tab, put };
}
