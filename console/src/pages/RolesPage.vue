<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api } from '../api/calls'
import FailureNote from '../components/FailureNote.vue'
import { useAsync } from '../composables/useAsync'
import { useGridFocus } from '../composables/useGridFocus'
import { texts } from '../texts/en'

const route = useRoute()
const router = useRouter()
const model = useAsync(api.model)
const grid = useAsync(api.grid)
const table = ref<HTMLTableElement>()
const type = computed(() => {
  const asked = route.params.type
  const types = model.data.value?.types ?? []
  return typeof asked === 'string' && asked ? asked : (types.find((known) => known.actions.length)?.key ?? '')
})
const focus = useGridFocus(
  table,
  () => grid.data.value?.roles.length ?? 0,
  () => grid.data.value?.actions.length ?? 0,
)
const cell = computed(() => grid.data.value?.roles[focus.row.value]?.cells[focus.column.value])
const row = computed(() => grid.data.value?.roles[focus.row.value])
const column = computed(() => grid.data.value?.actions[focus.column.value])

onMounted(model.run)
watch(type, async (key) => {
  if (!key) return
  const found = await grid.run(key)
  const wanted = found?.roles.findIndex((known) => known.role === route.query.role) ?? -1
  focus.set(Math.max(wanted, 0), 0)
}, { immediate: true })

function choose(event: Event) {
  void router.push({ name: 'roles', params: { type: (event.target as HTMLSelectElement).value } })
}
</script>

<template>
  <div class="head">
    <h1>Roles</h1>
    <label>
      what each gives of
      <select :value="type" @change="choose">
        <optgroup v-for="application in model.data.value?.applications ?? []" :key="application.key" :label="application.name">
          <option v-for="known in (model.data.value?.types ?? []).filter((known) => known.application === application.key)" :key="known.key" :value="known.key">
            {{ known.key }}
          </option>
        </optgroup>
      </select>
    </label>
  </div>
  <FailureNote v-if="model.error.value || grid.error.value" :error="(model.error.value ?? grid.error.value)!" />
  <div v-if="grid.data.value" class="sides">
    <div class="scroll">
      <p v-if="!grid.data.value.roles.length" class="sheet">No role gives anything of {{ grid.data.value.kind }}.</p>
      <table v-else ref="table" class="sheet" role="grid" :aria-label="`What each role gives of ${grid.data.value.kind}`" @keydown="focus.onKey">
        <thead>
          <tr>
            <th scope="col">role, from small to large</th>
            <th v-for="action in grid.data.value.actions" :key="action.permission" scope="col" :title="action.description">
              {{ action.action }}
              <small v-if="action.denies.length" class="denied">{{ action.denies.length }} deny</small>
              <small v-if="action.allows.length" class="allowed">{{ action.allows.length }} allow</small>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(line, r) in grid.data.value.roles" :key="line.role" :class="{ marked: line.role === route.query.role }">
            <th scope="row">{{ line.role }}</th>
            <td
              v-for="(one, c) in line.cells"
              :key="c"
              role="gridcell"
              :class="one.how"
              :tabindex="focus.row.value === r && focus.column.value === c ? 0 : -1"
              :aria-label="one.text"
              @focus="focus.set(r, c)"
              @click="focus.set(r, c)"
            >
              {{ texts.cells[one.how] }}
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <aside v-if="cell && row && column" class="sheet" aria-live="polite" aria-label="The cell in words">
      <h2>{{ row.name }}</h2>
      <p v-if="row.description" class="soft">{{ row.description }}</p>
      <p class="sentence">{{ cell.text }}.</p>
      <p v-if="row['given-to']">Given to {{ row['given-to'] }}, without a grant.</p>
      <p v-if="row.includes.length">Includes {{ row.includes.join(', ') }}.</p>
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
    </aside>
  </div>
  <p v-else-if="grid.busy.value" class="soft">Reading the roles …</p>
</template>

<style scoped>
.head {
  display: flex;
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
aside {
  position: sticky;
  top: 0;
}
aside p {
  margin: 4px 0;
  overflow-wrap: anywhere;
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
