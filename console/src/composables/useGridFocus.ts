import { computed, nextTick, ref, type Ref } from 'vue'

/**
 * One cell of a grid can be tabbed to; arrows, Home and End move from it. The focus belongs to a row
 * and a column by what they are called, so that rows that sort themselves anew take it along. The
 * pattern is the grid of the ARIA authoring practices.
 */
export function useGridFocus(table: Ref<HTMLTableElement | undefined>, rows: () => readonly string[], columns: () => readonly string[]) {
  const rowName = ref('')
  const columnName = ref('')
  const at = (all: readonly string[], name: string) => Math.max(all.indexOf(name), 0)
  const row = computed(() => at(rows(), rowName.value))
  const column = computed(() => at(columns(), columnName.value))

  function set(toRow: number, toColumn: number) {
    rowName.value = rows()[clamp(toRow, rows().length)] ?? ''
    columnName.value = columns()[clamp(toColumn, columns().length)] ?? ''
  }

  function onKey(event: KeyboardEvent) {
    const moves: Record<string, [number, number]> = {
      ArrowUp: [row.value - 1, column.value],
      ArrowDown: [row.value + 1, column.value],
      ArrowLeft: [row.value, column.value - 1],
      ArrowRight: [row.value, column.value + 1],
      Home: [row.value, 0],
      End: [row.value, columns().length - 1],
    }
    const to = moves[event.key]
    if (!to) return
    event.preventDefault()
    set(...to)
    void nextTick(() => table.value?.querySelector<HTMLElement>('td[tabindex="0"]')?.focus())
  }

  return { row, column, rowName, columnName, set, onKey }
}

function clamp(at: number, count: number): number {
  return Math.min(Math.max(at, 0), Math.max(count - 1, 0))
}
