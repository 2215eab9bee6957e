<script setup lang="ts">
import { computed, onMounted, reactive, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api } from '../api/calls'
import type { GridRow } from '../api/types'
import AllRoles from '../components/AllRoles.vue'
import CellInWords from '../components/CellInWords.vue'
import DraftGate from '../components/DraftGate.vue'
import FailureNote from '../components/FailureNote.vue'
import RoleGrid from '../components/RoleGrid.vue'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'
import { useGridFocus } from '../composables/useGridFocus'
import { KEY } from '../support/words'

/** Which permissions each role gives, type by type; in a draft they are given and taken back here. */
const ALL = 'all-types'
const route = useRoute()
const router = useRouter()
const draft = useDraft()
const live = useAsync(() => api.model())
const liveGrid = useAsync((type: string) => api.grid(type))
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
  () => rows.value.map((line) => line.role),
  () => grid.value?.actions.map((action) => action.permission) ?? [],
)
const row = computed(() => rows.value[focus.row.value])
const cell = computed(() => row.value?.cells[focus.column.value])
const column = computed(() => grid.value?.actions[focus.column.value])

onMounted(live.run)
watch(
  type,
  async (key) => {
    if (!key || key === ALL) return
    draft.look(key)
    const found = await liveGrid.run(key)
    const wanted = found?.roles.findIndex((known) => known.role === route.query.role) ?? -1
    focus.set(Math.max(wanted, 0), 0)
  },
  { immediate: true },
)

function liveCell(line: GridRow, permission: string) {
  const at = liveGrid.data.value?.actions.findIndex((known) => known.permission === permission) ?? -1
  return liveGrid.data.value?.roles.find((known) => known.role === line.role)?.cells[at]
}
/** What live says of a cell of which the draft says something else. */
function was(line: GridRow, permission: string): string | undefined {
  if (!drafted.value) return undefined
  const now = line.cells[grid.value!.actions.findIndex((known) => known.permission === permission)]!
  const then = liveCell(line, permission)
  if (!then) return now.how === 'nothing' ? undefined : 'nothing'
  return then.how === now.how && then.text === now.text ? undefined : then.text
}
/** Whether two roles laid over each other say something else of an action. */
const apart = (at: number) =>
  Boolean(other.value && rows.value.length === 2 && rows.value[0]!.cells[at]!.how !== rows.value[1]!.cells[at]!.how)

const choose = (key: string) => void router.push({ name: 'roles', params: { type: key } })
function lay(and: string) {
  void router.push({ query: and ? { role: row.value?.role, and } : {} })
}

/** Gives the focused permission, or takes it back; in a draft only. */
async function toggle() {
  if (!draft.draft.value || !row.value || !column.value || !cell.value) return
  const [role, permission] = [row.value.role, column.value.permission]
  if (cell.value.how === 'taken-out') await draft.edit([{ path: ['role', role, 'except'], remove: permission }])
  else if (cell.value.how === 'nothing') await draft.edit([{ path: ['role', role, 'permissions'], add: permission }])
  // What comes by a wildcard or through a role is taken out; what is listed is no more.
  else if (!(await draft.edit([{ path: ['role', role, 'permissions'], remove: permission }])))
    await draft.edit([{ path: ['role', role, 'except'], add: permission }])
}

async function addRole() {
  const value = { name: fresh.name.trim() || fresh.key, permissions: [column.value?.permission ?? `${type.value}:*`] }
  if (await draft.edit([{ path: ['role', fresh.key], value }])) Object.assign(fresh, { key: '', name: '' })
}
</script>

<template>
  <div class="head plain">
    <h1>Roles</h1>
    <label
      >what each gives of
      <ElSelect :model-value="type" name="type" filterable @update:model-value="choose">
        <ElOption :value="ALL" label="all types" />
        <ElOptionGroup v-for="application in model?.applications ?? []" :key="application.key" :label="application.name">
          <ElOption
            v-for="known in (model?.types ?? []).filter((known) => known.application === application.key)"
            :key="known.key"
            :value="known.key"
            :label="known.key"
          />
        </ElOptionGroup>
      </ElSelect>
    </label>
    <label v-if="row && type !== ALL"
      >{{ other ? String(route.query.role) : row.role }} laid over
      <ElSelect :model-value="other" name="and" filterable clearable placeholder="none: all roles" @update:model-value="lay">
        <ElOption
          v-for="line in (grid?.roles ?? []).filter((line) => line.role !== (other ? route.query.role : row?.role))"
          :key="line.role"
          :value="line.role"
          :label="line.role"
        />
      </ElSelect>
    </label>
  </div>
  <FailureNote v-if="live.error.value || liveGrid.error.value" :error="(live.error.value ?? liveGrid.error.value)!" />
  <AllRoles v-if="type === ALL && model" :model="model" />
  <div v-else-if="grid" class="sides">
    <div class="scroll">
      <p v-if="!rows.length" class="sheet">No role gives anything of {{ grid.kind }}.</p>
      <RoleGrid
        v-else
        v-model:table="table"
        :grid="grid"
        :rows="rows"
        :focus="focus"
        :was="was"
        :apart="apart"
        :marked="String(route.query.role ?? '')"
        @toggle="toggle"
      />
      <p v-if="draft.draft.value" class="soft">
        Hatched cells differ from what is live. Enter gives the permission in the focused cell, or takes it back.
      </p>
    </div>
    <CellInWords
      v-if="cell && row && column"
      :row="row"
      :cell="cell"
      :column="column"
      :beside="other ? rows.filter((line) => line !== row).map((line) => line.cells[focus.column.value]!.text) : []"
      :was="was(row, column.permission)"
    >
      <template v-if="draft.draft.value">
        <ElButton size="small" :loading="draft.busy.value" @click="toggle">{{
          cell.how === 'nothing' ? 'Give it' : cell.how === 'taken-out' ? 'Take it out no more' : 'Take it back'
        }}</ElButton>
        <form class="plain new" aria-label="New role" @submit.prevent="addRole">
          <h3>A new role that gives {{ column.permission }}</h3>
          <label>Key<ElInput v-model.trim="fresh.key" name="role-key" autocomplete="off" /></label>
          <label>Name<ElInput v-model="fresh.name" autocomplete="off" /></label>
          <ElButton native-type="submit" size="small" :disabled="!KEY.test(fresh.key)">Add the role</ElButton>
        </form>
      </template>
    </CellInWords>
  </div>
  <ElSkeleton v-else-if="liveGrid.busy.value" :rows="6" animated />
  <DraftGate v-if="!draft.draft.value" what="Roles are changed in this grid, by keyboard too." />
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 16px;
  align-items: end;
  margin-bottom: 16px;
}
.head label {
  width: 16em;
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
.new {
  display: grid;
  gap: 6px;
  justify-items: start;
  margin-top: 12px;
}
h3 {
  font-size: 14px;
}
@media (max-width: 900px) {
  .sides {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
