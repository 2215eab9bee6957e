<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, onMounted, ref, watch } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api } from '../api/calls'
import type { EntityLine } from '../api/types'
import BulkLoad from '../components/BulkLoad.vue'
import FailureNote from '../components/FailureNote.vue'
import { useAsync } from '../composables/useAsync'
import { useStatus } from '../composables/useStatus'
import { counted } from '../support/words'

const route = useRoute()
const router = useRouter()
const status = useStatus()
const model = useAsync(() => api.model())
/** A page of what stands everywhere a text stands, or of one type, and states something. */
const found = useAsync((containing: string, type: string, attribute: string, after: string) =>
  api.entities(type && `${type}:`, 50, { containing, attribute, after }),
)
const containing = ref('')
const type = ref('')
const attribute = ref('')
const text = (value: unknown) => (typeof value === 'string' ? value : '')
const kinds = computed(() => ['user', 'service', 'group', 'tenant', ...(model.data.value?.types ?? []).map((type) => type.key)])

onMounted(model.run)
watch(
  () => route.query,
  (query) => {
    containing.value = text(query.containing)
    type.value = text(query.type)
    attribute.value = text(query.attribute)
    void found.run(containing.value, type.value, attribute.value, text(query.after))
  },
  { immediate: true },
)

function search(after = '') {
  const query = { containing: containing.value.trim(), type: type.value, attribute: attribute.value.trim(), after }
  void router.push({ query: Object.fromEntries(Object.entries(query).filter(([, value]) => value)) })
}

/** What is said of an entity, on one line. */
function said(line: EntityLine): string {
  const parts = Object.entries(line).flatMap(([key, value]) => {
    if (key === 'entity') return []
    if (key === 'attributes' || key === 'relations') return Object.entries(value as Record<string, unknown>).map(([name, one]) => `${name} ${String(one)}`)
    if (key === 'member-count') return [counted(Number(value), 'member')]
    return [`${key} ${String(value)}`]
  })
  return parts.join(', ')
}
</script>

<template>
  <h1>Register</h1>
  <nav class="parts" aria-label="Parts of Register">
    <RouterLink :to="{ name: 'register', params: { part: '' } }" :aria-current="route.params.part ? undefined : 'page'">Entities</RouterLink>
    <RouterLink :to="{ name: 'register', params: { part: 'load' } }" :aria-current="route.params.part ? 'page' : undefined">Load a file</RouterLink>
  </nav>
  <BulkLoad v-if="route.params.part === 'load'" />
  <template v-else>
    <form class="plain line" aria-label="Search" @submit.prevent="search()">
      <label>In its name, or in what is said of it<input v-model="containing" name="containing" class="mono" placeholder="ines" autocomplete="off" spellcheck="false" /></label>
      <label>of type<select v-model="type" name="type"><option value="">any</option><option v-for="kind in kinds" :key="kind">{{ kind }}</option></select></label>
      <label>and states<input v-model="attribute" name="attribute" class="mono" placeholder="clearance=3" autocomplete="off" spellcheck="false" /></label>
      <ElButton type="primary" native-type="submit">Search</ElButton>
    </form>
    <FailureNote v-if="found.error.value" :error="found.error.value" />
    <section v-if="found.data.value" class="sheet" aria-label="Found">
      <p v-if="!found.data.value.items.length">
        Nothing is registered that is so{{ attribute ? ' and states that' : '' }}. The register has {{ counted(status.data.value?.entities ?? 0, 'entity', 'entities') }}; load more from a file.
      </p>
      <table v-else class="rows">
        <thead><tr><th scope="col">Entity</th><th scope="col">What is said of it</th></tr></thead>
        <tbody>
          <tr v-for="line in found.data.value.items" :key="line.entity">
            <td><RouterLink :to="{ name: 'entity', params: { name: line.entity } }" class="mono">{{ line.entity }}</RouterLink></td>
            <td>{{ said(line) }}</td>
          </tr>
        </tbody>
      </table>
      <button v-if="text(route.query.after)" type="button" class="plain-button" @click="search()">First page</button>
      <button v-if="found.data.value.next" type="button" class="plain-button" @click="search(found.data.value.next!)">Next page</button>
    </section>
    <p v-else-if="found.busy.value" class="soft">Reading the register …</p>
  </template>
</template>

<style scoped>
.sheet {
  margin-top: 16px;
}
td {
  overflow-wrap: anywhere;
}
</style>
