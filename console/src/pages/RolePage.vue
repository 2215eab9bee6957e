<script setup lang="ts">
import { computed, onMounted, watch } from 'vue'
import { RouterLink, useRoute } from 'vue-router'
import { api } from '../api/calls'
import DraftGate from '../components/DraftGate.vue'
import FailureNote from '../components/FailureNote.vue'
import RoleEditor from '../components/RoleEditor.vue'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'
import { termsOf } from '../support/role'
import { counted } from '../support/words'

/** One role: all that the charter says of it, whom it reaches, and how it is changed. */
const route = useRoute()
const draft = useDraft()
const live = useAsync(() => api.model())
const reached = useAsync(api.reached)
const key = computed(() => String(route.params.role))
const model = computed(() => draft.model.value ?? live.data.value)
const role = computed(() => model.value?.roles.find((one) => one.key === key.value))
const including = computed(() => (model.value?.roles ?? []).filter((one) => one.includes.includes(key.value)).map((one) => one.key))
const conferred = computed(() => (model.value?.confers ?? []).filter((one) => one.role === key.value))
const apart = computed(() => (model.value?.separations ?? []).filter((one) => one.roles.includes(key.value)))
/** Its own permissions, type by type. */
const gives = computed(() => {
  const all = new Map<string, string[]>()
  for (const permission of role.value?.permissions ?? []) {
    const [type, action] = permission.split(':') as [string, string]
    all.set(type, [...(all.get(type) ?? []), action])
  }
  return all
})
onMounted(live.run)
watch(key, (role) => void reached.run(role), { immediate: true })
</script>

<template>
  <h1>{{ role?.name ?? key }}</h1>
  <FailureNote v-if="live.error.value" :error="live.error.value" />
  <p v-else-if="!model" class="soft">Reading the charter …</p>
  <p v-else-if="!role" class="sheet">
    There is no role <code>{{ key }}</code> {{ draft.draft.value ? 'in this draft' : 'in what is live' }}.
    <RouterLink :to="{ name: 'roles' }">All roles</RouterLink>
  </p>
  <template v-else>
    <section class="sheet" aria-label="What it is">
      <p class="soft">
        <code>{{ role.key }}</code> {{ role.description }}
      </p>
      <p v-for="line in termsOf(role)" :key="line" class="sentence">{{ line }}</p>
      <p v-for="one in conferred" :key="one.sentence" class="sentence">{{ one.sentence }}</p>
      <p v-for="one in apart" :key="one.key" class="sentence">Nobody holds two of {{ one.roles.join(', ') }} where both count.</p>
      <p v-if="reached.data.value">
        {{ reached.data.value.whole ? '' : 'More than ' }}{{ counted(reached.data.value.subjects, 'subject') }} by
        {{ counted(reached.data.value.grants, 'grant') }} of it, or of a role that includes it.
      </p>
      <dl>
        <template v-if="role.when"
          ><dt>All it gives, only when</dt>
          <dd>
            <code>{{ role.when }}</code>
          </dd></template
        >
        <template v-if="role.includes.length"
          ><dt>Includes</dt>
          <dd>
            <RouterLink v-for="one in role.includes" :key="one" :to="{ name: 'role', params: { role: one } }">{{ one }}</RouterLink>
          </dd></template
        >
        <template v-if="including.length"
          ><dt>Included by</dt>
          <dd>
            <RouterLink v-for="one in including" :key="one" :to="{ name: 'role', params: { role: one } }">{{ one }}</RouterLink>
          </dd></template
        >
        <template v-for="[type, actions] in gives" :key="type"
          ><dt>
            Of <RouterLink :to="{ name: 'roles', params: { type }, query: { role: role.key } }">{{ type }}</RouterLink>
          </dt>
          <dd>{{ actions.join(', ') }}</dd></template
        >
        <template v-for="(one, n) in role.clauses" :key="n"
          ><dt>{{ one.permissions.join(', ') }}</dt>
          <dd>
            only when <code>{{ one.when }}</code>
          </dd></template
        >
        <template v-if="role.except.length"
          ><dt>Takes out</dt>
          <dd>{{ role.except.join(', ') }}</dd></template
        >
      </dl>
    </section>
    <DraftGate what="A role is changed in a draft.">
      <RoleEditor :key="role.key" :role="role" :model="model" />
    </DraftGate>
  </template>
</template>

<style scoped>
.sheet {
  margin: 12px 0 16px;
}
.sheet > p {
  margin: 2px 0;
}
.sentence {
  font: 16px/1.5 var(--serif);
}
dl {
  display: grid;
  grid-template-columns: minmax(120px, max-content) minmax(0, 1fr);
  gap: 6px 20px;
  margin: 12px 0 0;
  border-top: 1px solid var(--rule);
  padding-top: 10px;
}
dt {
  color: var(--soft);
}
dd {
  margin: 0;
  display: flex;
  flex-wrap: wrap;
  gap: 2px 12px;
}
</style>
