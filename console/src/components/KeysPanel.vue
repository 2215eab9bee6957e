<script setup lang="ts">
import type { FormInstance, FormRules } from 'element-plus'
import { computed, onMounted, reactive, ref } from 'vue'
import { api } from '../api/calls'
import type { Detail, HeaderPair, KeyAsked, KeyShown } from '../api/types'
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
/** No application has this key: it stands for the choice of a proxy. */
const PROXY = 'a proxy'
const proxy = reactive({ of: '', headers: 'original' as HeaderPair, hops: 0, strip: '', field: '' })
const isProxy = computed(() => asked.application === PROXY)
const PAIRS = { original: 'X-Original-Method and -URI', forwarded: 'X-Forwarded-Method and -Uri' }
const fields = computed(() => {
  const context = model.data.value?.others.find((one) => one.key === 'context')
  return (context?.attributes ?? []).filter((one) => ['address', 'text'].includes(one.kind)).map((one) => one.key)
})
const rules: FormRules<typeof asked> = {
  name: [{ required: true, message: 'A key has a name, by which changes tell who made them.', trigger: 'blur' }],
}
const ending = ref<KeyShown>()
const isEnding = computed({ get: () => Boolean(ending.value), set: (open: boolean) => void (open || (ending.value = undefined)) })
const hosts = (key: NonNullable<KeyShown['proxy']>) =>
  key.applications.map((one) => (one.host ? `${one.application} at ${one.host}` : one.application)).join(', ')
const whose = (key: KeyShown) => (key.proxy ? `proxy: ${hosts(key.proxy)}` : (key.application ?? `operator: ${tellRights(key.rights)}`))
const isReady = computed(() => {
  const forWhom = isProxy.value ? proxy.of.trim() : asked.application || asked.rights.trim()
  return asked.name.trim() && forWhom
})
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
  const key: KeyAsked = { name: asked.name.trim(), detail: asked.detail, rights: application ? [] : readRights(asked.rights) }
  const forWhom = isProxy.value ? { proxy: proxied() } : application ? { application } : {}
  if (await made.run(() => api.newKey({ ...key, ...forWhom, ...(until ? { until } : {}) }))) {
    asked.name = ''
    await keys.run()
    void names.read()
  }
}
/** customs=customs.example, quay=quay.example */
function proxied(): NonNullable<KeyAsked['proxy']> {
  const all = proxy.of.split(/[\s,]+/).filter(Boolean)
  const applications = all.map((one) => {
    const [application, host] = one.split('=')
    return { application: application!, ...(host ? { host } : {}) }
  })
  return {
    applications,
    headers: proxy.headers,
    'trusted-hops': proxy.hops,
    ...(proxy.strip.trim() ? { strip: proxy.strip.trim() } : {}),
    ...(proxy.field ? { 'address-as': proxy.field } : {}),
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
          <template #default="{ row }: { row: KeyShown }">{{ row.application || row.proxy ? texts.details[row.detail] : '' }}</template>
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
        ending?.proxy
          ? 'The proxy that asks with it lets nothing through from then on.'
          : ending?.application
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
          <ElOption :value="PROXY" label="a reverse proxy’s" />
        </ElSelect>
      </ElFormItem>
      <ElFormItem v-if="asked.application" label="Answers tell" prop="detail">
        <ElSelect v-model="asked.detail" name="detail"
          ><ElOption v-for="(words, detail) in texts.details" :key="detail" :value="detail" :label="words"
        /></ElSelect>
      </ElFormItem>
      <ElFormItem v-if="!asked.application" label="Rights" prop="rights" class="wide"
        ><ElInput v-model="asked.rights" name="rights" placeholder="reader, grant-editor@tenant:northline" autocomplete="off"
      /></ElFormItem>
      <MomentField v-model="asked.until" label="Until" name="until" placeholder="no end" />
    </div>
    <div v-if="isProxy" class="fields">
      <ElFormItem label="Of which application, or which at which host" class="wide"
        ><ElInput v-model="proxy.of" name="proxied" placeholder="customs=customs.example, quay=quay.example" autocomplete="off"
      /></ElFormItem>
      <ElFormItem label="It tells a request in">
        <ElSelect v-model="proxy.headers" name="headers" class="pair"
          ><ElOption v-for="(words, pair) in PAIRS" :key="pair" :value="pair" :label="words"
        /></ElSelect>
      </ElFormItem>
      <ElFormItem label="Takes off paths"
        ><ElInput v-model="proxy.strip" name="strip" placeholder="/customs, or nothing" autocomplete="off"
      /></ElFormItem>
      <ElFormItem label="Trusted hops"><ElInputNumber v-model="proxy.hops" name="hops" :min="0" :max="16" /></ElFormItem>
      <ElFormItem v-if="proxy.hops" label="The client’s address fills">
        <ElSelect v-model="proxy.field" name="field" clearable :value-on-clear="''" placeholder="nothing"
          ><ElOption v-for="one in fields" :key="one" :value="one" :label="`context.${one}`"
        /></ElSelect>
      </ElFormItem>
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
.pair {
  width: 17em;
}
</style>
