<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, onMounted, reactive, ref, watch } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api } from '../api/calls'
import type { GridRow } from '../api/types'
import DraftGate from '../components/DraftGate.vue'
import FailureNote from '../components/FailureNote.vue'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'
import { useGridFocus } from '../composables/useGridFocus'
import { KEY, counted } from '../support/words'
import { texts } from '../texts/en'

const route = useRoute()
const router = useRouter()
const draft = useDraft()
const live = useAsync(() => api.model())
const liveGrid = useAsync((type: string) => api.grid(type))
const reached = useAsync(api.reached)
const table = ref<HTMLTableElement>()
const fresh = reactive({ key: '', name: '' })
const model = computed(() => draft.model.value ?? live.data.value)
/** In a draft the sheet is the draft's, with what differs from the live one marked. */
const drafted = computed(() => (draft.draft.value && draft.grid.value?.kind === type.value ? draft.grid.value : undefined))
const grid = computed(() => drafted.value ?? liveGrid.data.value)
const type = computed(() => {
  const asked = route.params.type
  const types = model.value?.types ?? []
  return typeof asked === 'string' && asked ? asked : (types.find((known) => known.actions.length)?.key ?? '')
})
const other = computed(() => (typeof route.query.and === 'string' ? route.query.and : ''))
const rows = computed(() => {
  const all = grid.value?.roles ?? []
  const pair = [route.query.role, other.value]
  return other.value ? all.filter((line) => pair.includes(line.role)) : all
})
const focus = useGridFocus(
  table,
  () => rows.value.length,
  () => grid.value?.actions.length ?? 0,
)
const row = computed(() => rows.value[focus.row.value])
const cell = computed(() => row.value?.cells[focus.column.value])
const column = computed(() => grid.value?.actions[focus.column.value])
const before = computed(() => (row.value && column.value && (liveCell(row.value, column.value.permission)?.text ?? 'not there yet')))

onMounted(live.run)
watch(type, async (key) => {
  if (!key) return
  draft.look(key)
  const found = await liveGrid.run(key)
  const wanted = found?.roles.findIndex((known) => known.role === route.query.role) ?? -1
  focus.set(Math.max(wanted, 0), 0)
}, { immediate: true })
watch(() => row.value?.role, (role) => role && reached.run(role))

function liveCell(line: GridRow, permission: string) {
  const at = liveGrid.data.value?.actions.findIndex((known) => known.permission === permission) ?? -1
  return liveGrid.data.value?.roles.find((known) => known.role === line.role)?.cells[at]
}

/** Whether the draft says something else of a cell than what is live. */
function differs(line: GridRow, at: number): boolean {
  if (!drafted.value) return false
  const now = line.cells[at]!
  const then = liveCell(line, grid.value!.actions[at]!.permission)
  return then ? then.how !== now.how || then.text !== now.text : now.how !== 'nothing'
}

/** Whether two roles laid over each other say something else of an action. */
const apart = (at: number) => Boolean(other.value && rows.value.length === 2 && rows.value[0]!.cells[at]!.how !== rows.value[1]!.cells[at]!.how)

function choose(event: Event) {
  void router.push({ name: 'roles', params: { type: (event.target as HTMLSelectElement).value } })
}

function lay(event: Event) {
  const and = (event.target as HTMLSelectElement).value
  void router.push({ query: and ? { role: row.value?.role, and } : {} })
  focus.set(0, focus.column.value)
}

/** Gives the focused permission, or takes it back; in a draft only. */
async function toggle() {
  if (!draft.draft.value || !row.value || !column.value || !cell.value) return
  const [role, permission] = [row.value.role, column.value.permission]
  if (cell.value.how === 'taken-out') await draft.edit([{ path: ['role', role, 'except'], remove: permission }])
  else if (cell.value.how === 'nothing') await draft.edit([{ path: ['role', role, 'permissions'], add: permission }])
  // What comes by a wildcard or through a role is taken out; what is listed is no more.
  else if (!(await draft.edit([{ path: ['role', role, 'permissions'], remove: permission }]))) await draft.edit([{ path: ['role', role, 'except'], add: permission }])
}

function onKey(event: KeyboardEvent) {
  if (event.key === 'Enter' || event.key === ' ') {
    event.preventDefault()
    void toggle()
  } else focus.onKey(event)
}

async function addRole() {
  const value = { name: fresh.name.trim() || fresh.key, permissions: [column.value?.permission ?? `${type.value}:*`] }
  if (await draft.edit([{ path: ['role', fresh.key], value }])) Object.assign(fresh, { key: '', name: '' })
}
</script>

<template>
  <div class="head">
    <h1>Roles</h1>
    <label>
      what each gives of
      <select :value="type" @change="choose">
        <optgroup v-for="application in model?.applications ?? []" :key="application.key" :label="application.name">
          <option v-for="known in (model?.types ?? []).filter((known) => known.application === application.key)" :key="known.key" :value="known.key">
            {{ known.key }}
          </option>
        </optgroup>
      </select>
    </label>
    <label v-if="row">
      {{ other ? String(route.query.role) : row.role }} laid over
      <select :value="other" @change="lay">
        <option value="">none: all roles</option>
        <option v-for="line in (grid?.roles ?? []).filter((line) => line.role !== (other ? route.query.role : row?.role))" :key="line.role" :value="line.role">{{ line.role }}</option>
      </select>
    </label>
  </div>
  <FailureNote v-if="live.error.value || liveGrid.error.value" :error="(live.error.value ?? liveGrid.error.value)!" />
  <div v-if="grid" class="sides">
    <div class="scroll">
      <p v-if="!rows.length" class="sheet">No role gives anything of {{ grid.kind }}.</p>
      <table v-else ref="table" class="sheet" role="grid" :aria-label="`What each role gives of ${grid.kind}`" @keydown="onKey">
        <thead>
          <tr>
            <th scope="col">role, from small to large</th>
            <th v-for="(action, c) in grid.actions" :key="action.permission" scope="col" :title="action.description" :class="{ apart: apart(c) }">
              {{ action.action }}
              <small v-if="action.denies.length" class="denied">{{ action.denies.length }} deny</small>
              <small v-if="action.allows.length" class="allowed">{{ action.allows.length }} allow</small>
              <small v-if="apart(c)" class="soft">they differ</small>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(line, r) in rows" :key="line.role" :class="{ marked: line.role === route.query.role }">
            <th scope="row">{{ line.role }}</th>
            <td
              v-for="(one, c) in line.cells"
              :key="c"
              role="gridcell"
              :class="[one.how, { differs: differs(line, c) }]"
              :tabindex="focus.row.value === r && focus.column.value === c ? 0 : -1"
              :aria-label="differs(line, c) ? `${one.text}; live: ${liveCell(line, grid.actions[c]!.permission)?.text ?? 'nothing'}` : one.text"
              @focus="focus.set(r, c)"
              @click="focus.set(r, c)"
            >
              {{ texts.cells[one.how] }}
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="draft.draft.value" class="soft">Hatched cells differ from what is live. Enter gives the permission in the focused cell, or takes it back.</p>
    </div>
    <aside v-if="cell && row && column" class="sheet" aria-live="polite" aria-label="The cell in words">
      <h2>{{ row.name }} <RouterLink class="all" :to="{ name: 'role', params: { role: row.role } }">all of it</RouterLink></h2>
      <p v-if="row.description" class="soft">{{ row.description }}</p>
      <p class="sentence">{{ cell.text }}.</p>
      <p v-if="drafted && before !== cell.text" class="was">Live: {{ before }}.</p>
      <p v-for="line in other ? rows.filter((line) => line !== row) : []" :key="line.role" class="sentence">{{ line.cells[focus.column.value]?.text }}.</p>
      <p v-if="row['given-to']">Given to {{ row['given-to'] }}, without a grant.</p>
      <p v-if="row.includes.length">Includes {{ row.includes.join(', ') }}.</p>
      <p v-if="reached.data.value">{{ reached.data.value.whole ? '' : 'More than ' }}{{ counted(reached.data.value.subjects, 'subject') }} by {{ counted(reached.data.value.grants, 'grant') }} of it, or of a role that includes it.</p>
      <template v-if="cell.conditions.length">
        <h3>Only when</h3>
        <p v-for="condition in cell.conditions" :key="condition"><code>{{ condition }}</code></p>
      </template>
      <template v-if="column.denies.length">
        <h3 class="denied">Above all roles, denied by</h3>
        <p v-for="rule in column.denies" :key="rule"><code>{{ rule }}</code></p>
      </template>
      <template v-if="column.allows.length">
        <h3 class="allowed">Beside the roles, allowed by</h3>
        <p v-for="rule in column.allows" :key="rule"><code>{{ rule }}</code></p>
      </template>
      <template v-if="draft.draft.value">
        <ElButton size="small" :loading="draft.busy.value" @click="toggle">{{ cell.how === 'nothing' ? 'Give it' : cell.how === 'taken-out' ? 'Take it out no more' : 'Take it back' }}</ElButton>
        <form class="plain new" aria-label="New role" @submit.prevent="addRole">
          <h3>A new role that gives {{ column.permission }}</h3>
          <label>Key<input v-model.trim="fresh.key" name="role-key" class="mono" autocomplete="off" /></label>
          <label>Name<input v-model="fresh.name" autocomplete="off" /></label>
          <ElButton native-type="submit" size="small" :disabled="!KEY.test(fresh.key)">Add the role</ElButton>
        </form>
      </template>
    </aside>
  </div>
  <p v-else-if="liveGrid.busy.value" class="soft">Reading the roles …</p>
  <DraftGate v-if="!draft.draft.value" what="Roles are changed in this grid, by keyboard too." />
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 16px;
  align-items: baseline;
  margin-bottom: 16px;
}
select {
  font: 14px var(--mono);
  color: inherit;
  background: var(--sheet);
  border: 1px solid var(--edge);
  border-radius: 2px;
  padding: 4px 6px;
}
.sides {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 300px;
  gap: 16px;
  align-items: start;
}
.scroll {
  overflow: auto;
}
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
.was {
  color: var(--draft);
}
.new {
  display: grid;
  gap: 6px;
  justify-items: start;
  margin-top: 12px;
}
aside {
  position: sticky;
  top: 0;
}
aside p {
  margin: 4px 0;
  overflow-wrap: anywhere;
}
.all {
  float: right;
  font: 14px var(--sans);
}
.sentence {
  font: 16px/1.45 var(--serif);
}
h3 {
  font-size: 14px;
  margin-top: 12px;
}
@media (max-width: 900px) {
  .sides {
    grid-template-columns: 1fr;
  }
}
</style>
