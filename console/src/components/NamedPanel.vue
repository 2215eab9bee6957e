<script setup lang="ts">
import { reactive } from 'vue'
import type { Model } from '../api/types'
import { useDraft } from '../composables/useDraft'
import { KEY } from '../support/words'
import ConditionField from './ConditionField.vue'
import DraftGate from './DraftGate.vue'
import TakeAway from './TakeAway.vue'

/** Conditions with names, which others meet. */
defineProps<{ model: Model }>()
const draft = useDraft()
const form = reactive({ key: '', when: '' })
type One = Model['conditions'][number]

async function write() {
  if (await draft.edit([{ path: ['condition', form.key, 'when'], value: form.when.trim() }])) Object.assign(form, { key: '', when: '' })
}
</script>

<template>
  <section class="sheet" aria-labelledby="named">
    <h2 id="named">Conditions with names</h2>
    <p v-if="!model.conditions.length">None yet. What several conditions ask can be written once, and met by its name.</p>
    <ElTable v-else :data="model.conditions" row-key="key">
      <ElTableColumn label="Name" prop="key" sortable min-width="140"
        ><template #default="{ row }: { row: One }"
          ><code>{{ row.key }}</code></template
        ></ElTableColumn
      >
      <ElTableColumn label="Condition" min-width="420"
        ><template #default="{ row }: { row: One }">
          <pre>{{ row.when }}</pre>
        </template></ElTableColumn
      >
      <ElTableColumn label="Met by" min-width="170"
        ><template #default="{ row }: { row: One }"
          ><code>meets('{{ row.key }}')</code></template
        ></ElTableColumn
      >
      <ElTableColumn v-if="draft.draft.value" label="" width="190" align="right"
        ><template #default="{ row }: { row: One }"
          ><ElButton size="small" :aria-label="`Change ${row.key}`" @click="Object.assign(form, row)">Change</ElButton>
          <TakeAway
            text="Take out"
            :name="`Take out ${row.key}`"
            asks="What meets it then has an error, in this draft, until it is written otherwise."
            answer="Take out"
            @confirmed="draft.edit([{ path: ['condition', row.key] }])" /></template
      ></ElTableColumn>
    </ElTable>
  </section>
  <DraftGate what="Conditions are changed in a draft.">
    <form class="sheet plain" aria-labelledby="new-named" @submit.prevent="write">
      <h2 id="new-named">{{ model.conditions.some((one) => one.key === form.key) ? `Change ${form.key}` : 'Another one' }}</h2>
      <div class="line">
        <label>Name<ElInput v-model.trim="form.key" name="condition" placeholder="day-watch" autocomplete="off" /></label>
        <ConditionField v-model="form.when" label="is so when" name="named" placeholder="hour(now, 'Europe/Lisbon') >= 6" />
        <ElButton native-type="submit" :disabled="!KEY.test(form.key) || !form.when.trim()" :loading="draft.busy.value"
          >Write it in the draft</ElButton
        >
      </div>
    </form>
  </DraftGate>
</template>

<style scoped>
.sheet {
  margin-bottom: 16px;
}
pre {
  margin: 0;
  font: 13px/1.5 var(--mono);
  white-space: pre-wrap;
}
</style>
