<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, onMounted, reactive } from 'vue'
import { api } from '../api/calls'
import type { Model, TenantRoleLine } from '../api/types'
import FailureNote from './FailureNote.vue'
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

async function let_() {
  const permissions = clause.permissions.split(',').map((one) => one.trim()).filter(Boolean)
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
    <table v-else class="rows">
      <thead><tr><th scope="col">Role</th><th scope="col">Gives</th><th scope="col"><span class="visually-hidden">What to do</span></th></tr></thead>
      <tbody>
        <tr v-for="{ 'tenant-role': one } in roles.data.value.items" :key="`${one.tenant}/${one.key}`">
          <td class="mono">{{ one.tenant }}/{{ one.key }}</td>
          <td>{{ one.permissions.join(', ') }}</td>
          <td class="do">
            <ElButton size="small" :aria-label="`Change ${one.tenant}/${one.key}`" @click="Object.assign(role, one, { permissions: [...one.permissions] })">Change</ElButton>
            <ElButton size="small" :aria-label="`End ${one.tenant}/${one.key}`" @click="end(one)">End</ElButton>
          </td>
        </tr>
      </tbody>
    </table>
  </section>
  <section class="sheet plain" aria-labelledby="may">
    <h2 id="may">What the charter lets tenants put into them</h2>
    <ul>
      <li v-for="(one, n) in clauses" :key="n" class="clause">
        <span>{{ one.permissions.join(', ') }}<template v-if="one.when">, only when <code>{{ one.when }}</code></template></span>
        <ElButton v-if="draft.draft.value" size="small" :aria-label="`Take out clause ${n + 1}`" @click="draft.edit([{ path: ['tenant-roles', 'clause', `#${n}`] }])">Take out</ElButton>
      </li>
    </ul>
    <p v-if="!clauses.length">Nothing: the charter lets tenants make no roles.</p>
    <form v-if="draft.draft.value" class="line" aria-label="New clause" @submit.prevent="let_">
      <label>Permissions<input v-model="clause.permissions" name="clause-permissions" class="mono" placeholder="voyage:view, manifest:view" autocomplete="off" /></label>
      <label class="wide">only when<input v-model="clause.when" class="mono" placeholder="always" autocomplete="off" spellcheck="false" /></label>
      <ElButton native-type="submit" size="small" :disabled="!clause.permissions.trim()" :loading="draft.busy.value">Add it to the draft</ElButton>
    </form>
    <FailureNote v-if="draft.error.value" :error="draft.error.value" />
  </section>
  <form class="sheet plain" aria-labelledby="make" @submit.prevent="make">
    <h2 id="make">Make one</h2>
    <p v-if="!model['tenant-clauses'].length">What is live lets tenants make no roles.</p>
    <template v-else>
      <div class="line">
        <label>Tenant<select v-model="role.tenant" name="tenant"><option v-for="one in tenants.data.value?.items ?? []" :key="one.entity" :value="one.entity.slice(7)">{{ one.entity.slice(7) }}</option></select></label>
        <label>Its key<input v-model.trim="role.key" name="role-key" class="mono" placeholder="viewer-plus" autocomplete="off" /></label>
      </div>
      <fieldset v-for="[type, permissions] in byType" :key="type">
        <legend>{{ type }}</legend>
        <label v-for="permission in permissions" :key="permission" class="check"><input v-model="role.permissions" type="checkbox" :value="permission" />{{ permission.split(':')[1] }}</label>
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
