<script setup lang="ts">
import { ref } from 'vue'
import type { Grid, GridRow } from '../api/types'
import type { useGridFocus } from '../composables/useGridFocus'
import { texts } from '../texts/en'

/** What each role gives of one type. By hand: it is a grid of the ARIA practices, with keys of its own. */
const props = defineProps<{
  grid: Grid
  rows: GridRow[]
  focus: ReturnType<typeof useGridFocus>
  /** What live says of a cell, where a draft says something else. */
  was: (row: GridRow, permission: string) => string | undefined
  marked?: string
  /** Whether two roles that are laid over each other differ in a column. */
  apart: (column: number) => boolean
}>()
const emit = defineEmits<{ toggle: [] }>()
const table = defineModel<HTMLTableElement>('table')
const own = ref<HTMLTableElement>()
const take = (element: unknown) => (table.value = own.value = (element as HTMLTableElement | null) ?? undefined)

function onKey(event: KeyboardEvent) {
  if (event.key === 'Enter' || event.key === ' ') {
    event.preventDefault()
    emit('toggle')
  } else props.focus.onKey(event)
}
/** The name holds what stands in the cell, so that it is found by what is seen. */
function nameOf(row: GridRow, at: number): string {
  const one = row.cells[at]!
  const shown = texts.cells[one.how]
  const told = shown && !one.text.includes(shown) ? `${shown}: ${one.text}` : one.text
  const before = props.was(row, props.grid.actions[at]!.permission)
  return before === undefined ? told : `${told}; live: ${before}`
}
</script>

<template>
  <table :ref="take" class="sheet" role="grid" :aria-label="`What each role gives of ${grid.kind}`" @keydown="onKey">
    <thead>
      <tr>
        <th scope="col">role, from small to large</th>
        <th
          v-for="(action, c) in grid.actions"
          :key="action.permission"
          scope="col"
          :title="action.description"
          :class="{ apart: apart(c) }"
        >
          {{ action.action }}
          <small v-if="action.denies.length" class="denied">{{ action.denies.length }} deny</small>
          <small v-if="action.allows.length" class="allowed">{{ action.allows.length }} allow</small>
          <small v-if="apart(c)" class="soft">they differ</small>
        </th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(line, r) in rows" :key="line.role" :class="{ marked: line.role === marked }">
        <th scope="row">{{ line.role }}</th>
        <td
          v-for="(one, c) in line.cells"
          :key="c"
          role="gridcell"
          :class="[one.how, { differs: was(line, grid.actions[c]!.permission) !== undefined }]"
          :tabindex="focus.row.value === r && focus.column.value === c ? 0 : -1"
          :aria-label="nameOf(line, c)"
          @focus="focus.set(r, c)"
          @click="focus.set(r, c)"
        >
          {{ texts.cells[one.how] }}
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
table {
  padding: 0;
  min-width: 100%;
}
th,
td {
  border: 1px solid var(--rule);
  padding: 5px 10px;
  text-align: left;
  white-space: nowrap;
}
thead th {
  font-weight: 700;
  vertical-align: bottom;
}
thead th:first-child {
  font-weight: 400;
  color: var(--soft);
}
tbody th {
  font: 13px var(--mono);
  position: sticky;
  left: 0;
  background: var(--sheet);
}
small {
  display: block;
  font-weight: 400;
}
tr.marked th {
  border-left: 3px solid var(--ink);
}
td {
  cursor: pointer;
}
td.gives {
  background: var(--allowed-ground);
  color: var(--allowed);
}
td.included {
  color: var(--allowed);
}
td.when {
  background: var(--undetermined-ground);
  color: var(--undetermined);
}
td.taken-out {
  background: var(--denied-ground);
  color: var(--denied);
}
/* What a draft changes is hatched, beside its colour and its words. */
td.differs {
  background-image: repeating-linear-gradient(45deg, color-mix(in srgb, var(--draft) 35%, transparent) 0 2px, transparent 2px 6px);
}
th.apart {
  border-bottom: 3px solid var(--undetermined);
}
</style>
