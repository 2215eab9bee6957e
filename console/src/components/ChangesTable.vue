<script setup lang="ts">
import { computed } from 'vue'
import { RouterLink } from 'vue-router'
import type { ChangeOfText } from '../api/types'
import { useNarrowed } from '../composables/useNarrowed'
import { counted } from '../support/words'
import { texts } from '../texts/en'
import NarrowField from './NarrowField.vue'

/** What a text changes, in words, grouped by what it touches. */
const props = defineProps<{ changes: ChangeOfText[] }>()
const { narrow, shown } = useNarrowed(
  () => props.changes,
  (change) => `${change.about} ${change.key} ${change.words} ${texts.effects[change.effect]}`,
)
const groups = computed(() => {
  const all = new Map<string, ChangeOfText[]>()
  for (const change of shown.value) all.set(change.about, [...(all.get(change.about) ?? []), change])
  return [...all]
})
/** Where it is read, and the people behind it. */
function place(change: ChangeOfText) {
  if (change.about === 'role') return { name: 'role', params: { role: change.key } }
  if (['rule', 'condition'].includes(change.about)) return { name: 'refine', params: { part: 'rules' } }
  if (['confer', 'separation'].includes(change.about)) return { name: 'refine', params: { part: 'confers' } }
  if (change.about === 'permission' && change.key.includes(':')) return { name: 'roles', params: { type: change.key.split(':')[0] } }
  return { name: 'describe', params: { part: 'text' } }
}
</script>

<template>
  <NarrowField v-model="narrow" :shown="shown.length" :of="changes.length" what="changes" />
  <section v-for="[about, all] in groups" :key="about" :aria-label="about">
    <h4>{{ counted(all.length, `change to a ${about}`, `changes to ${about}s`) }}</h4>
    <ElTable :data="all" :row-key="(row: ChangeOfText) => row.about + row.key + row.words">
      <ElTableColumn label="May be done" prop="effect" sortable width="130">
        <template #default="{ row }: { row: ChangeOfText }"
          ><span :class="row.effect">{{ texts.effects[row.effect] }}</span></template
        >
      </ElTableColumn>
      <ElTableColumn label="What" prop="key" sortable min-width="160">
        <template #default="{ row }: { row: ChangeOfText }"
          ><RouterLink :to="place(row)"
            ><code>{{ row.key }}</code></RouterLink
          ></template
        >
      </ElTableColumn>
      <ElTableColumn label="How" prop="words" min-width="280" />
    </ElTable>
  </section>
</template>

<style scoped>
h4 {
  font-size: 14px;
  font-weight: 400;
  color: var(--soft);
  margin: 10px 0 0;
}
.wider {
  color: var(--undetermined);
}
.narrower {
  color: var(--denied);
}
</style>
