<script setup lang="ts">
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'
import { api } from '../api/calls'
import charter from '../../../demo/first/charter.toml?raw'
import register from '../../../demo/first/register.ndjson?raw'
import rehearsal from '../../../demo/first/rehearsal.toml?raw'
import { useAsync } from '../composables/useAsync'
import FailureNote from './FailureNote.vue'

/** An empty workspace, step by step: until the first refusal, its reason, one change and the opposite answer. */
const emit = defineEmits<{ begun: [] }>()
/** The one thing that is changed between the two answers. */
const OPENED = '{"entity":"pier:west","within":"tenant:sorrel","attributes":{"closed":false}}'
const question = { subject: 'user:ada', permission: 'pier:assign', resource: 'pier:west' }
const text = charter.replace(/ +Check it:.*/, '')
const at = ref(0)
const put = useAsync(async () => {
  const draft = await api.saveDraft({ title: 'A small harbour', files: [{ path: 'charter.toml', text }] })
  await api.rollOut({ what: draft.draft.id, for: 'all' })
  await api.saveRehearsal([{ path: 'rehearsal.toml', text: rehearsal }], 0)
  return true
})
const loaded = useAsync(() => api.load(register, false))
const refused = useAsync(() => api.ask({ ...question, context: {}, ofSubject: {}, ofResource: {}, now: '', suppose: [] }))
const opened = useAsync(() => api.load(OPENED, false))
const allowed = useAsync(() => api.ask({ ...question, context: {}, ofSubject: {}, ofResource: {}, now: '', suppose: [] }))
const steps = [
  {
    title: 'A small charter',
    does: 'Put it live',
    call: put,
    words: 'One type, three roles and a rule, commented. This is all of it:',
    shown: text,
  },
  {
    title: 'Who and what there is',
    does: 'Register them',
    call: loaded,
    words: 'A tenant, two people, two piers and two grants:',
    shown: register,
  },
  {
    title: 'The first refusal',
    does: 'Ask it',
    call: refused,
    words: 'Ada is master of the harbour, and a master may assign piers. May she assign the western one?',
    shown: 'ostrog ask user:ada pier:assign pier:west --why',
  },
  {
    title: 'One change',
    does: 'Open the pier',
    call: opened,
    words: 'The rule closed-pier denies it while the pier is closed. So:',
    shown: OPENED,
  },
  {
    title: 'The opposite answer',
    does: 'Ask again',
    call: allowed,
    words: 'The same question, a moment later:',
    shown: 'ostrog ask user:ada pier:assign pier:west --why',
  },
]
const step = computed(() => steps[at.value])
const answer = computed(() => (allowed.data.value ?? refused.data.value)?.explanation)

async function go() {
  emit('begun')
  if ((await step.value!.call.run()) !== undefined) at.value += 1
}
</script>

<template>
  <section class="sheet first" aria-labelledby="first">
    <h2 id="first">The first five minutes</h2>
    <p>
      <template v-if="!at">Nothing is live here yet. </template>In five steps: a charter, a refusal, its reason, one change, and the
      opposite answer.
    </p>
    <ElSteps :active="at" finish-status="success" align-center>
      <ElStep v-for="one in steps" :key="one.title" :title="one.title" />
    </ElSteps>
    <p v-if="answer" class="answer" role="status" :class="answer.allowed ? 'allowed' : 'denied'">
      {{ answer.allowed ? 'Allowed' : 'Denied' }} <code>{{ answer.reason }}</code>: {{ answer.sentence }}
    </p>
    <template v-if="step">
      <h3>{{ step.title }}</h3>
      <p>{{ step.words }}</p>
      <pre tabindex="0" :aria-label="step.title">{{ step.shown.trim() }}</pre>
      <FailureNote v-if="step.call.error.value" :error="step.call.error.value" />
      <p>
        <ElButton type="primary" :loading="step.call.busy.value" @click="go">{{ step.does }}</ElButton>
      </p>
    </template>
    <p v-else>
      From here: <RouterLink :to="{ name: 'describe' }">see what is described</RouterLink>,
      <RouterLink :to="{ name: 'try' }">try other questions</RouterLink>, or
      <RouterLink :to="{ name: 'rehearse' }">rehearse it</RouterLink>: three cases and a guarantee came along.
    </p>
  </section>
</template>

<style scoped>
.first {
  margin: 12px 0 16px;
  display: grid;
  gap: 10px;
}
h3 {
  font-size: 16px;
  margin: 0;
}
p {
  margin: 0;
}
.answer {
  font: 17px/1.4 var(--serif);
}
pre {
  margin: 0;
  padding: 8px 12px;
  max-height: 320px;
  overflow: auto;
  border: 1px solid var(--rule);
  font: 13px/1.5 var(--mono);
}
</style>
