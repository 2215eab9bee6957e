<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, type Question } from '../api/calls'
import AnswerSheet from '../components/AnswerSheet.vue'
import FailureNote from '../components/FailureNote.vue'
import NameField from '../components/NameField.vue'
import { useAsync } from '../composables/useAsync'
import { useStatus } from '../composables/useStatus'
import { blank, contextOf, permissionOf } from '../support/question'

const route = useRoute()
const router = useRouter()
const status = useStatus()
const subject = ref('')
const permission = ref('')
const resource = ref('')
const context = ref('')
const now = ref('')
const fact = ref('')
const hint = ref('')

const before = useAsync(api.ask)
const after = useAsync(api.ask)
const kept = useAsync(api.setFacts)
const model = useAsync(api.model)
const type = computed(() => permission.value.split(':')[0] ?? '')
const permissions = computed(() => (model.data.value?.types ?? []).flatMap((known) => known.actions.map((action) => `${known.key}:${action.key}`)))
void model.run()

function question(suppose: string[]): Question | undefined {
  permission.value = permissionOf(permission.value, resource.value)
  const slots = { subject: subject.value.trim(), permission: permission.value, resource: resource.value.trim() }
  const read = contextOf(context.value)
  hint.value = blank(slots) ?? read.wrong ?? ''
  return hint.value ? undefined : { ...slots, context: read.context, now: now.value.trim(), suppose }
}

/** The address holds the question, so that it can be sent to somebody and comes back by Back. */
watch(
  () => route.query,
  (query) => {
    const text = (value: unknown) => (typeof value === 'string' ? value : '')
    if (!query.subject) return
    subject.value = text(query.subject)
    permission.value = text(query.permission)
    resource.value = text(query.resource)
    if ('context' in query) context.value = text(query.context)
    if ('now' in query) now.value = text(query.now)
    const asked = question([])
    after.clear()
    if (asked) void before.run(asked)
  },
  { immediate: true },
)

function ask() {
  if (!question([])) return
  const query = {
    subject: subject.value.trim(),
    permission: permission.value,
    resource: resource.value.trim(),
    ...(context.value.trim() ? { context: context.value.trim() } : {}),
    ...(now.value.trim() ? { now: now.value.trim() } : {}),
    at: String(Date.now()),
  }
  void router.push({ name: 'try', query })
}

function suppose() {
  const asked = question([fact.value.trim()])
  kept.clear()
  if (asked) void after.run(asked)
}

async function keep() {
  if (!(await kept.run([fact.value.trim()]))) return
  fact.value = ''
  void status.run()
  ask()
}
</script>

<template>
  <h1>Try</h1>
  <form class="question" aria-label="Question" @submit.prevent="ask">
    <NameField v-model="subject" label="Subject" :width="12" placeholder="user:ines" />
    <NameField v-model="permission" label="Permission" :width="15" placeholder="manifest:release" :known="permissions" />
    <NameField v-model="resource" label="Resource" :width="16" placeholder="manifest:m-204, or none" />
    <NameField v-model="context" label="Context" :width="11" placeholder="zone=quay" :known="[]" />
    <NameField v-model="now" label="Moment" :width="12" placeholder="now" :known="[]" />
    <ElButton type="primary" native-type="submit" :loading="before.busy.value">Ask</ElButton>
    <p v-if="hint" class="denied" role="alert">{{ hint }}</p>
  </form>
  <FailureNote v-if="before.error.value" :error="before.error.value" />
  <div v-if="before.data.value" class="answers">
    <AnswerSheet :asked="before.data.value" :type="type" :title="`As it is: may ${subject} ${permission}${resource ? ` on ${resource}` : ''}?`" />
    <div class="second">
      <form class="sheet" aria-label="Change one thing" @submit.prevent="suppose">
        <label for="fact">Change one thing and ask again</label>
        <ElInput id="fact" v-model="fact" placeholder="user:ines.clearance = 5" autocomplete="off" spellcheck="false" />
        <div class="buttons">
          <ElButton native-type="submit" :disabled="!fact.trim()" :loading="after.busy.value">Suppose this</ElButton>
          <ElButton :disabled="!fact.trim() || !after.data.value" :loading="kept.busy.value" @click="keep">Make it so</ElButton>
        </div>
        <FailureNote v-if="after.error.value || kept.error.value" :error="(after.error.value ?? kept.error.value)!" />
      </form>
      <AnswerSheet v-if="after.data.value" :asked="after.data.value" :type="type" :title="`Supposing ${fact}`" />
    </div>
  </div>
  <p v-else-if="!before.error.value && !before.busy.value" class="soft empty">
    Ask as somebody who must be refused, then as somebody who must be let in. Press <kbd>/</kbd> to ask from any page.
  </p>
</template>

<style scoped>
.question {
  display: flex;
  flex-wrap: wrap;
  gap: 12px;
  align-items: end;
  margin: 12px 0 16px;
}
.question p {
  margin: 0;
  width: 100%;
}
.answers {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(440px, 100%), 1fr));
  gap: 16px;
  align-items: start;
}
.second {
  display: grid;
  gap: 16px;
}
.second form {
  display: grid;
  gap: 8px;
}
.buttons {
  display: flex;
}
.empty {
  max-width: 40em;
}
kbd {
  font: 12px var(--mono);
  border: 1px solid var(--rule);
  padding: 0 6px;
}
</style>
