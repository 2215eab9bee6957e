<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, onMounted, reactive, ref } from 'vue'
import { api } from '../api/calls'
import type { Detail, KeyShown } from '../api/types'
import FailureNote from '../components/FailureNote.vue'
import { useAsync } from '../composables/useAsync'
import { readRights, tellRights } from '../support/rights'
import { moment } from '../support/words'
import { texts } from '../texts/en'

const keys = useAsync(api.keys)
const model = useAsync(() => api.model())
const made = useAsync((run: () => ReturnType<typeof api.newKey>) => run())
const ended = useAsync(api.endKey)
const asked = reactive({ name: '', application: '', detail: 'reason' as Detail, until: '', rights: '' })
const ending = ref<string>()
const whose = (key: KeyShown) => key.application ?? `operator: ${tellRights(key.rights)}`
const isReady = computed(() => asked.name.trim() && (asked.application || asked.rights.trim()))

onMounted(() => {
  void keys.run()
  void model.run()
})

async function make() {
  const { application, until } = asked
  const key = { name: asked.name.trim(), detail: asked.detail, rights: application ? [] : readRights(asked.rights) }
  const more = { ...(application ? { application } : {}), ...(until ? { until } : {}) }
  if (await made.run(() => api.newKey({ ...key, ...more }))) {
    asked.name = ''
    await keys.run()
  }
}

async function replace(key: KeyShown) {
  if (await made.run(() => api.replaceKey(key.id))) await keys.run()
}

async function end(key: KeyShown) {
  // Asked a second time, in the same place.
  if (ending.value !== key.id) {
    ending.value = key.id
    return
  }
  ending.value = undefined
  if (await ended.run(key.id)) await keys.run()
}
</script>

<template>
  <h1>Connect: keys</h1>
  <p class="lead">An application asks with a key of its own; an operator works with one that has rights.</p>
  <section v-if="made.data.value" class="sheet shown" aria-labelledby="made" role="status">
    <h2 id="made">{{ made.data.value.key.name }}: {{ made.data.value.key.id }}</h2>
    <p>Its text is shown this once. Keep it where the holder keeps secrets.</p>
    <p><code class="secret">{{ made.data.value.text }}</code></p>
    <ElButton @click="made.clear">It is kept</ElButton>
  </section>
  <FailureNote v-if="made.error.value" :error="made.error.value" />
  <FailureNote v-if="ended.error.value" :error="ended.error.value" />

  <section class="sheet" aria-labelledby="all">
    <h2 id="all">Keys</h2>
    <FailureNote v-if="keys.error.value" :error="keys.error.value" />
    <p v-else-if="!keys.data.value" class="soft">Reading the keys …</p>
    <table v-else class="rows">
      <thead>
        <tr>
          <th scope="col">Name</th><th scope="col">Whose</th><th scope="col">Answers tell</th><th scope="col">Until</th>
          <th scope="col">Last used</th><th scope="col"><span class="hidden">What to do</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="key in keys.data.value" :key="key.id">
          <td>{{ key.name }}<br /><code class="soft">{{ key.id }}</code></td>
          <td>{{ whose(key) }}</td>
          <td>{{ key.application ? texts.details[key.detail] : '' }}</td>
          <td>{{ key.until ? moment(key.until) : 'no end' }}</td>
          <td>{{ key['last-used-at'] ? moment(key['last-used-at']) : 'not yet' }}</td>
          <td class="actions">
            <ElButton size="small" :aria-label="`Replace ${key.name}`" @click="replace(key)">Replace</ElButton>
            <ElButton size="small" :aria-label="`End ${key.name}`" @click="end(key)" @blur="ending = undefined">{{
              ending === key.id ? 'End it now' : 'End'
            }}</ElButton>
          </td>
        </tr>
      </tbody>
    </table>
    <p class="soft">Replaced, a key counts for a day more. Ended, it counts no more at once, on every node.</p>
  </section>

  <form class="sheet plain" aria-labelledby="new" @submit.prevent="make">
    <h2 id="new">A new key</h2>
    <div class="fields">
      <label>Name<input v-model="asked.name" name="name" autocomplete="off" maxlength="200" /></label>
      <label
        >Whose<select v-model="asked.application" name="application">
          <option value="">an operator’s</option>
          <option v-for="application in model.data.value?.applications" :key="application.key" :value="application.key">
            {{ application.name }}
          </option>
        </select></label
      >
      <label v-if="asked.application"
        >Answers tell<select v-model="asked.detail" name="detail">
          <option v-for="(words, detail) in texts.details" :key="detail" :value="detail">{{ words }}</option>
        </select></label
      >
      <label v-else class="wide"
        >Rights<input v-model="asked.rights" name="rights" class="mono" placeholder="reader, grant-editor@tenant:northline" autocomplete="off"
      /></label>
      <label>Until<input v-model="asked.until" name="until" class="mono" placeholder="2027-01-01" autocomplete="off" /></label>
    </div>
    <ElButton type="primary" native-type="submit" :disabled="!isReady" :loading="made.busy.value">Make it</ElButton>
  </form>
</template>

<style scoped>
.lead {
  margin: 4px 0 16px;
}
.sheet {
  margin: 0 0 16px;
}
.shown {
  border-left: 3px solid var(--allowed);
}
.secret {
  overflow-wrap: anywhere;
}
.actions {
  white-space: nowrap;
  text-align: right;
  padding-right: 0;
}
.fields {
  display: flex;
  flex-wrap: wrap;
  gap: 12px 16px;
  margin: 8px 0 12px;
}
.wide {
  flex: 1 1 340px;
}
.hidden {
  position: absolute;
  clip-path: inset(50%);
}
</style>
