<script setup lang="ts">
import { computed } from 'vue'
import { RouterLink } from 'vue-router'
import type { Model } from '../api/types'
import { useNarrowed } from '../composables/useNarrowed'
import NarrowField from './NarrowField.vue'

/** All roles over all types, compressed: how many of a type's permissions each gives, itself and by what it includes. */
const props = defineProps<{ model: Model }>()
type Role = Model['roles'][number]
const types = computed(() => props.model.types.filter((type) => type.actions.length))
const { narrow, shown } = useNarrowed(
  () => props.model.roles,
  (role) => `${role.key} ${role.name} ${role.description}`,
)
/** Everything a role gives under some condition or none, through what it includes too. */
const given = computed(() => {
  const byKey = new Map(props.model.roles.map((role) => [role.key, role]))
  const all = new Map<string, Set<string>>()
  function of(key: string): Set<string> {
    const known = all.get(key)
    if (known) return known
    const own = new Set<string>()
    all.set(key, own)
    const role = byKey.get(key)
    if (!role) return own
    for (const permission of [
      ...role.permissions,
      ...role.clauses.flatMap((clause) => clause.permissions),
      ...role.includes.flatMap((inner) => [...of(inner)]),
    ])
      own.add(permission)
    for (const permission of role.except) own.delete(permission)
    return own
  }
  for (const role of props.model.roles) of(role.key)
  return all
})
function told(role: Role, type: (typeof types.value)[number]): string {
  const count = type.actions.filter((action) => given.value.get(role.key)?.has(`${type.key}:${action.key}`)).length
  return count ? (count === type.actions.length ? 'all' : `${count} of ${type.actions.length}`) : ''
}
</script>

<template>
  <NarrowField v-model="narrow" :shown="shown.length" :of="model.roles.length" what="roles" />
  <ElTable :data="shown" row-key="key" border max-height="640">
    <ElTableColumn label="Role" prop="key" sortable fixed min-width="190">
      <template #default="{ row }: { row: Role }"
        ><RouterLink :to="{ name: 'role', params: { role: row.key } }" class="mono">{{ row.key }}</RouterLink></template
      >
    </ElTableColumn>
    <ElTableColumn v-for="type in types" :key="type.key" min-width="120">
      <template #header
        ><RouterLink :to="{ name: 'roles', params: { type: type.key } }">{{ type.key }}</RouterLink></template
      >
      <template #default="{ row }: { row: Role }"
        ><RouterLink v-if="told(row, type)" :to="{ name: 'roles', params: { type: type.key }, query: { role: row.key } }" class="allowed">{{
          told(row, type)
        }}</RouterLink></template
      >
    </ElTableColumn>
  </ElTable>
</template>
