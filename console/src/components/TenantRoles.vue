<script setup lang="ts">
import { computed, onMounted, reactive } from 'vue'
import { api } from '../api/calls'
import type { Model, TenantRoleLine } from '../api/types'
import ConditionField from './ConditionField.vue'
import FailureNote from './FailureNote.vue'
import PermissionsField from './PermissionsField.vue'
import TakeAway from './TakeAway.vue'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'
import { KEY } from '../support/words'

/** Roles of a tenant's own making, out of what the charter lets tenants put into them. */
const props = defineProps<{ model: Model }>()
const draft = useDraft()
/** In a draft what its text says. */
const clauses = computed(() => (draft.model.value ?? props.model)['tenant-clauses'])
const clause = reactive({ permissions: '', when: '' })
const roles = useAsync(api.tenantRoles)
const tenants = useAsync(() => api.entities('tenant:', 1000))
const put = useAsync(api.putTenantRole)
const ended = useAsync(api.endTenantRole)
const role = reactive<TenantRoleLine>({ tenant: '', key: '', permissions: [] })
const isReady = computed(() => role.tenant && KEY.test(role.key) && role.permissions.length)
const byType = computed(() => {
  const all = new Map<string, string[]>()
  for (const permission of new Set(props.model['tenant-clauses'].flatMap((one) => one.permissions))) {
    const type = permission.split(':')[0]!
    all.set(type, [...(all.get(type) ?? []), permission])
  }
  return all
})
onMounted(() => {
  void roles.run()
  void tenants.run()
})

const nameOf = (one: TenantRoleLine) => `${one.tenant}/${one.key}`

async function let_() {
  const permissions = clause.permissions
    .split(',')
    .map((one) => one.trim())
    .filter(Boolean)
  const value = { permissions, ...(clause.when.trim() ? { when: clause.when.trim() } : {}) }
  if (await draft.edit([{ path: ['tenant-roles', 'clause', '#new'], value }])) Object.assign(clause, { permissions: '', when: '' })
}

async function make() {
  if (await put.run({ ...role })) await roles.run()
}

async function end(one: TenantRoleLine) {
  if (await ended.run(one.tenant, one.key)) await roles.run()
}
</script>

<template>
  <section class="sheet" aria-labelledby="made">
    <h2 id="made">Roles that tenants made</h2>
    <FailureNote v-if="roles.error.value ?? ended.error.value" :error="(roles.error.value ?? ended.error.value)!" />
    <p v-else-if="!roles.data.value" class="soft">Reading the roles …</p>
    <p v-else-if="!roles.data.value.items.length">No tenant has a role of its own making yet.</p>
    <ElTable v-else :data="roles.data.value.items.map((one) => one['tenant-role'])" :row-key="nameOf">
      <ElTableColumn label="Role" sortable :sort-by="nameOf" min-width="170"
        ><template #default="{ row }: { row: TenantRoleLine }"
          ><span class="mono">{{ nameOf(row) }}</span></template
        ></ElTableColumn
      >
      <ElTableColumn label="Gives" min-width="220"
        ><template #default="{ row }: { row: TenantRoleLine }">{{ row.permissions.join(', ') }}</template></ElTableColumn
      >
      <ElTableColumn label="" width="160" align="right">
        <template #default="{ row }: { row: TenantRoleLine }">
          <ElButton
            size="small"
            :aria-label="`Change ${nameOf(row)}`"
            @click="Object.assign(role, row, { permissions: [...row.permissions] })"
            >Change</ElButton
          >
          <TakeAway
            text="End"
            :name="`End ${nameOf(row)}`"
            :asks="`Whoever holds ${nameOf(row)} has nothing by it any more, and its grants end.`"
            answer="End it"
            @confirmed="end(row)"
          />
        </template>
      </ElTableColumn>
    </ElTable>
  </section>
  <section class="sheet plain" aria-labelledby="may">
    <h2 id="may">What the charter lets tenants put into them</h2>
    <ul>
      <li v-for="(one, n) in clauses" :key="n" class="clause">
        <span
          >{{ one.permissions.join(', ')
          }}<template v-if="one.when"
            >, only when <code>{{ one.when }}</code></template
          ></span
        >
        <TakeAway
          v-if="draft.draft.value"
          text="Take out"
          :name="`Take out clause ${n + 1}`"
          asks="Tenants may put these into roles no more, in this draft."
          answer="Take out"
          @confirmed="draft.edit([{ path: ['tenant-roles', 'clause', `#${n}`] }])"
        />
      </li>
    </ul>
    <p v-if="!clauses.length">Nothing: the charter lets tenants make no roles.</p>
    <form v-if="draft.draft.value" class="line" aria-label="New clause" @submit.prevent="let_">
      <PermissionsField v-model="clause.permissions" label="Permissions" name="clause-permissions" :model="draft.model.value ?? model" />
      <ConditionField v-model="clause.when" label="only when" />
      <ElButton native-type="submit" size="small" :disabled="!clause.permissions.trim()" :loading="draft.busy.value"
        >Add it to the draft</ElButton
      >
    </form>
    <FailureNote v-if="draft.error.value" :error="draft.error.value" />
  </section>
  <form class="sheet plain" aria-labelledby="make" @submit.prevent="make">
    <h2 id="make">Make one</h2>
    <p v-if="!model['tenant-clauses'].length">What is live lets tenants make no roles.</p>
    <template v-else>
      <div class="line">
        <label
          >Tenant<ElSelect v-model="role.tenant" name="tenant" filterable
            ><ElOption
              v-for="one in tenants.data.value?.items ?? []"
              :key="one.entity"
              :value="one.entity.slice(7)"
              :label="one.entity.slice(7)" /></ElSelect
        ></label>
        <label>Its key<ElInput v-model.trim="role.key" name="role-key" placeholder="viewer-plus" autocomplete="off" /></label>
      </div>
      <fieldset v-for="[type, permissions] in byType" :key="type">
        <legend>{{ type }}</legend>
        <ElCheckboxGroup v-model="role.permissions"
          ><ElCheckbox v-for="permission in permissions" :key="permission" :value="permission">{{
            permission.split(':')[1]
          }}</ElCheckbox></ElCheckboxGroup
        >
      </fieldset>
      <FailureNote v-if="put.error.value" :error="put.error.value" />
      <ElButton type="primary" native-type="submit" :disabled="!isReady" :loading="put.busy.value">Write it</ElButton>
    </template>
  </form>
</template>

<style scoped>
.sheet {
  margin-bottom: 16px;
}
fieldset {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 16px;
  border: 0;
  border-bottom: 1px solid var(--rule);
  padding: 4px 0 8px;
  margin: 0 0 8px;
}
legend {
  color: var(--soft);
  padding: 0;
}
ul {
  list-style: none;
  margin: 6px 0;
  padding: 0;
}
.clause {
  display: flex;
  gap: 12px;
  justify-content: space-between;
  border-bottom: 1px solid var(--rule);
  padding: 4px 0;
}
.wide {
  flex: 1 1 240px;
}
.do {
  text-align: right;
  white-space: nowrap;
}
</style>
