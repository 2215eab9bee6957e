import { nextTick, ref, type Ref } from 'vue'

/**
 * One cell of a table can be tabbed to; arrows, Home and End move from it. The pattern is the
 * grid of the ARIA authoring practices.
 */
export function useGridFocus(table: Ref<HTMLTableElement | undefined>, rows: () => number, columns: () => number) {
  const row = ref(0)
  const column = ref(0)

  function set(toRow: number, toColumn: number) {
    row.value = clamp(toRow, rows())
    column.value = clamp(toColumn, columns())
  }

  function onKey(event: KeyboardEvent) {
    const moves: Record<string, [number, number]> = {
      ArrowUp: [row.value - 1, column.value],
      ArrowDown: [row.value + 1, column.value],
      ArrowLeft: [row.value, column.value - 1],
      ArrowRight: [row.value, column.value + 1],
      Home: [row.value, 0],
      End: [row.value, columns() - 1],
    }
    const to = moves[event.key]
    if (!to) return
    event.preventDefault()
    set(...to)
    void nextTick(() => table.value?.querySelector<HTMLElement>('td[tabindex="0"]')?.focus())
  }

  return { row, column, set, onKey }
}

function clamp(at: number, count: number): number {
  return Math.min(Math.max(at, 0), Math.max(count - 1, 0))
}
