<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api } from '../api/calls'
import type { EntityLine } from '../api/types'
import BulkLoad from '../components/BulkLoad.vue'
import ColumnsChoice from '../components/ColumnsChoice.vue'
import FailureNote from '../components/FailureNote.vue'
import { useAsync } from '../composables/useAsync'
import { useColumns } from '../composables/useColumns'
import { useStatus } from '../composables/useStatus'
import { counted, saidOfEntity } from '../support/words'
import PartTabs from '../components/PartTabs.vue'

const route = useRoute()
const router = useRouter()
const status = useStatus()
const model = useAsync(() => api.model())
/** A page of what stands everywhere a text stands, or of one type, and states something. */
const found = useAsync((containing: string, type: string, attribute: string, within: string, after: string) =>
  api.entities(type && `${type}:`, 50, { containing, attribute, after, ...(within ? { within } : {}) }),
)
const containing = ref('')
const type = ref('')
const attribute = ref('')
const within = ref('')
const text = (value: unknown) => (typeof value === 'string' ? value : '')
const kinds = computed(() => ['user', 'service', 'group', 'tenant', ...(model.data.value?.types ?? []).map((type) => type.key)])

onMounted(model.run)
watch(
  () => route.query,
  (query) => {
    containing.value = text(query.containing)
    type.value = text(query.type)
    attribute.value = text(query.attribute)
    within.value = text(query.within)
    void found.run(containing.value, type.value, attribute.value, within.value, text(query.after))
  },
  { immediate: true },
)

function search(after = '') {
  const query = {
    containing: containing.value.trim(),
    type: type.value,
    attribute: attribute.value.trim(),
    within: within.value.trim(),
    after,
  }
  void router.push({ query: Object.fromEntries(Object.entries(query).filter(([, value]) => value)) })
}

const REST = 'what is said of it'
const columns = useColumns(() => type.value, ['within', REST])
/** What can stand in a column: what its type declares, or what is stated of anything on this page. */
const choice = computed(() => {
  const declared = [...(model.data.value?.types ?? []), ...(model.data.value?.others ?? [])].find((one) => one.key === type.value)
  const keys = declared
    ? [...declared.attributes, ...declared.relations].map((one) => one.key)
    : (found.data.value?.items ?? []).flatMap((line) => [...Object.keys(line.attributes ?? {}), ...Object.keys(line.relations ?? {})])
  return [...new Set(['within', 'state', ...columns.value.filter((one) => one !== REST), ...keys.sort()]), REST]
})
/** What a line says in a column; what stands in a column of its own is not said twice. */
function said(line: EntityLine, column: string): string {
  if (column !== REST) return list(line[column] ?? line.attributes?.[column] ?? line.relations?.[column])
  const own = (part: Record<string, unknown> = {}) =>
    Object.fromEntries(Object.entries(part).filter(([key]) => !columns.value.includes(key)))
  return saidOfEntity({ ...own(line), attributes: own(line.attributes), relations: own(line.relations) } as EntityLine)
}
/** Words of ours begin large; names of the charter's stay as they are. */
const heading = (one: string) => (['within', 'state', REST].includes(one) ? one[0]!.toUpperCase() + one.slice(1) : one)
const list = (value: unknown) => (value === undefined ? '' : (Array.isArray(value) ? value : [value]).map(String).join(', '))
const parts = [
  { part: '', text: 'Entities' },
  { part: 'load', text: 'Load a file' },
]
</script>

<template>
  <h1>Register</h1>
  <PartTabs area="register" label="Parts of Register" :parts="parts" />
  <BulkLoad v-if="route.params.part === 'load'" />
  <template v-else>
    <form class="plain line" aria-label="Search" @submit.prevent="search()">
      <label
        >In its name, or in what is said of it<ElInput
          v-model="containing"
          name="containing"
          placeholder="ines"
          autocomplete="off"
          spellcheck="false"
      /></label>
      <label
        >of type<ElSelect v-model="type" name="type" filterable clearable :value-on-clear="''" placeholder="any"
          ><ElOption v-for="kind in kinds" :key="kind" :value="kind" :label="kind" /></ElSelect
      ></label>
      <label
        >and states<ElInput v-model="attribute" name="attribute" placeholder="clearance=3" autocomplete="off" spellcheck="false"
      /></label>
      <label
        >and lies within<ElInput v-model="within" name="within" placeholder="vessel:kestrel" autocomplete="off" spellcheck="false"
      /></label>
      <ElButton type="primary" native-type="submit">Search</ElButton>
    </form>
    <FailureNote v-if="found.error.value" :error="found.error.value" />
    <p role="status" class="soft found">
      <template v-if="found.busy.value">Reading the register …</template>
      <template v-else-if="found.data.value"
        >{{ found.data.value.next ? 'The first' : 'All' }} {{ counted(found.data.value.items.length, 'entity', 'entities') }} that
        {{ found.data.value.items.length === 1 ? 'is' : 'are' }} so, by name</template
      >
    </p>
    <section v-if="found.data.value" class="sheet" aria-label="Found">
      <p v-if="!found.data.value.items.length">
        Nothing is registered that is so{{ attribute ? ' and states that' : '' }}. The register has
        {{ counted(status.data.value?.entities ?? 0, 'entity', 'entities') }}; load more from a file.
      </p>
      <ColumnsChoice v-if="found.data.value.items.length" v-model="columns" :all="choice" />
      <ElTable v-if="found.data.value.items.length" :data="found.data.value.items" row-key="entity">
        <ElTableColumn label="Entity" prop="entity" sortable min-width="180">
          <template #default="{ row }: { row: EntityLine }"
            ><RouterLink :to="{ name: 'entity', params: { name: row.entity } }" class="mono">{{ row.entity }}</RouterLink></template
          >
        </ElTableColumn>
        <ElTableColumn
          v-for="one in columns"
          :key="one"
          :label="heading(one)"
          sortable
          :sort-by="(row: EntityLine) => said(row, one)"
          min-width="130"
          ><template #default="{ row }: { row: EntityLine }">{{ said(row, one) }}</template></ElTableColumn
        >
      </ElTable>
      <ElButton v-if="text(route.query.after)" size="small" @click="search()">First page</ElButton>
      <ElButton v-if="found.data.value.next" size="small" @click="search(found.data.value.next!)">Next page</ElButton>
    </section>
  </template>
</template>

<style scoped>
.found {
  margin: 10px 0 0;
}
.sheet {
  margin-top: 8px;
}
</style>
