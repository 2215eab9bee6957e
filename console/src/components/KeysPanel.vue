<script setup lang="ts">
import type { FormInstance, FormRules } from 'element-plus'
import { computed, onMounted, reactive, ref } from 'vue'
import { api } from '../api/calls'
import type { Detail, KeyShown } from '../api/types'
import AskFirst from './AskFirst.vue'
import FailureNote from './FailureNote.vue'
import KeyOnce from './KeyOnce.vue'
import MomentField from './MomentField.vue'
import NarrowField from './NarrowField.vue'
import { useAsync } from '../composables/useAsync'
import { useKeyNames } from '../composables/useKeyNames'
import { useNarrowed } from '../composables/useNarrowed'
import { readRights, tellRights } from '../support/rights'
import { moment } from '../support/words'
import { texts } from '../texts/en'

const keys = useAsync(api.keys)
const model = useAsync(() => api.model())
const made = useAsync((run: () => ReturnType<typeof api.newKey>) => run())
const ended = useAsync(api.endKey)
const names = useKeyNames()
const form = ref<FormInstance>()
const asked = reactive({ name: '', application: '', detail: 'reason' as Detail, until: '', rights: '' })
const rules: FormRules<typeof asked> = {
  name: [{ required: true, message: 'A key has a name, by which changes tell who made them.', trigger: 'blur' }],
}
const ending = ref<KeyShown>()
const isEnding = computed({ get: () => Boolean(ending.value), set: (open: boolean) => void (open || (ending.value = undefined)) })
const whose = (key: KeyShown) => key.application ?? `operator: ${tellRights(key.rights)}`
const isReady = computed(() => asked.name.trim() && (asked.application || asked.rights.trim()))
const { narrow, shown } = useNarrowed(
  () => keys.data.value ?? [],
  (key) => `${key.name} ${key.id} ${whose(key)}`,
)

onMounted(() => {
  void keys.run()
  void model.run()
})

async function make() {
  if (!(await form.value?.validate().catch(() => false))) return
  const { application, until } = asked
  const key = { name: asked.name.trim(), detail: asked.detail, rights: application ? [] : readRights(asked.rights) }
  const more = { ...(application ? { application } : {}), ...(until ? { until } : {}) }
  if (await made.run(() => api.newKey({ ...key, ...more }))) {
    asked.name = ''
    await keys.run()
    void names.read()
  }
}
async function replace(key: KeyShown) {
  if (await made.run(() => api.replaceKey(key.id))) await keys.run()
}
async function end(key: KeyShown) {
  const done = await ended.run(key.id)
  ending.value = undefined
  if (done) await keys.run()
}
</script>

<template>
  <p class="lead">An application asks with a key of its own; an operator works with one that has rights.</p>
  <KeyOnce v-if="made.data.value" :made="made.data.value" @kept="made.clear" />
  <FailureNote v-if="made.error.value" :error="made.error.value" />
  <FailureNote v-if="ended.error.value" :error="ended.error.value" />

  <section class="sheet" aria-labelledby="all">
    <h2 id="all">Keys</h2>
    <FailureNote v-if="keys.error.value" :error="keys.error.value" />
    <ElSkeleton v-else-if="!keys.data.value" :rows="3" animated />
    <template v-else>
      <NarrowField v-model="narrow" :shown="shown.length" :of="keys.data.value.length" what="keys" />
      <ElTable :data="shown" row-key="id">
        <ElTableColumn label="Name" prop="name" sortable min-width="150">
          <template #default="{ row }: { row: KeyShown }"
            >{{ row.name }}<br /><code class="soft">{{ row.id }}</code></template
          >
        </ElTableColumn>
        <ElTableColumn label="Whose" sortable :sort-by="whose" min-width="200">
          <template #default="{ row }: { row: KeyShown }">{{ whose(row) }}</template>
        </ElTableColumn>
        <ElTableColumn label="Answers tell" min-width="150">
          <template #default="{ row }: { row: KeyShown }">{{ row.application ? texts.details[row.detail] : '' }}</template>
        </ElTableColumn>
        <ElTableColumn label="Until" prop="until" sortable min-width="130">
          <template #default="{ row }: { row: KeyShown }">{{ row.until ? moment(row.until) : 'no end' }}</template>
        </ElTableColumn>
        <ElTableColumn label="Last used" prop="last-used-at" sortable min-width="140">
          <template #default="{ row }: { row: KeyShown }">{{ row['last-used-at'] ? moment(row['last-used-at']) : 'not yet' }}</template>
        </ElTableColumn>
        <ElTableColumn label="" width="170" align="right">
          <template #default="{ row }: { row: KeyShown }">
            <ElButton size="small" :aria-label="`Replace ${row.name}`" @click="replace(row)">Replace</ElButton>
            <ElButton size="small" :aria-label="`End ${row.name}`" @click="ending = row">End</ElButton>
          </template>
        </ElTableColumn>
      </ElTable>
    </template>
    <p class="soft">Replaced, a key counts for a day more. Ended, it counts no more at once, on every node.</p>
  </section>
  <AskFirst
    v-model="isEnding"
    danger
    :title="`End ${ending?.name}?`"
    answer="End it now"
    :busy="ended.busy.value"
    @confirmed="end(ending!)"
  >
    <p>
      {{
        ending?.application
          ? `Whatever of ${ending.application} asks with it is refused from then on.`
          : 'Whoever works with it is signed out from then on.'
      }}
      It cannot be taken back; another key can be made.
    </p>
    <p class="soft">Last used: {{ ending?.['last-used-at'] ? moment(ending['last-used-at']) : 'not yet' }}</p>
  </AskFirst>

  <ElForm ref="form" :model="asked" :rules="rules" class="sheet" label-position="top" aria-labelledby="new" @submit.prevent="make">
    <h2 id="new">A new key</h2>
    <div class="fields">
      <ElFormItem label="Name" prop="name"><ElInput v-model="asked.name" name="name" autocomplete="off" maxlength="200" /></ElFormItem>
      <ElFormItem label="Whose" prop="application" class="whose">
        <ElSelect v-model="asked.application" name="application" clearable placeholder="an operator’s">
          <ElOption
            v-for="application in model.data.value?.applications"
            :key="application.key"
            :value="application.key"
            :label="application.name"
          />
        </ElSelect>
      </ElFormItem>
      <ElFormItem v-if="asked.application" label="Answers tell" prop="detail">
        <ElSelect v-model="asked.detail" name="detail"
          ><ElOption v-for="(words, detail) in texts.details" :key="detail" :value="detail" :label="words"
        /></ElSelect>
      </ElFormItem>
      <ElFormItem v-else label="Rights" prop="rights" class="wide"
        ><ElInput v-model="asked.rights" name="rights" placeholder="reader, grant-editor@tenant:northline" autocomplete="off"
      /></ElFormItem>
      <MomentField v-model="asked.until" label="Until" name="until" placeholder="no end" />
    </div>
    <ElButton type="primary" native-type="submit" :disabled="!isReady" :loading="made.busy.value">Make it</ElButton>
  </ElForm>
</template>

<style scoped>
.lead {
  margin: 4px 0 16px;
}
.sheet {
  margin: 0 0 16px;
}
.fields {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 16px;
  margin: 8px 0;
}
.whose {
  width: 14em;
}
.wide {
  flex: 1 1 340px;
}
</style>
