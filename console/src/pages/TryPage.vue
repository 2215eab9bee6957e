<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api, type Question } from '../api/calls'
import type { Proposal } from '../api/types'
import AnswerSheet from '../components/AnswerSheet.vue'
import FailureNote from '../components/FailureNote.vue'
import BlankAnswer from '../components/BlankAnswer.vue'
import AsCommand from '../components/AsCommand.vue'
import KeepCase from '../components/KeepCase.vue'
import MomentField from '../components/MomentField.vue'
import TryTable from '../components/TryTable.vue'
import NameField from '../components/NameField.vue'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'
import { useStatus } from '../composables/useStatus'
import { blank, blankOf, permissionOf, saidOf, type Blank } from '../support/question'
import { lastQuestions, rememberQuestion } from '../support/lately'

const route = useRoute()
const router = useRouter()
const status = useStatus()
const subject = ref('')
/** In the place of the subject. It goes into no address, and is not remembered. */
const token = ref('')
const permission = ref('')
const resource = ref('')
const context = ref('')
const now = ref('')
const fact = ref('')
const hint = ref('')
const lately = ref(lastQuestions())
/** What was supposed beside the answer that is shown second, to keep it as a case. */
const second = ref<Question>()

type Beside = 'fact' | 'subject' | 'moment' | 'draft'
const draft = useDraft()
const beside = ref<Beside>('fact')
const title = ref('')
const first = ref<Question>()
const besides = computed(() => [
  { label: 'one fact', value: 'fact' },
  { label: 'another subject', value: 'subject' },
  { label: 'another moment', value: 'moment' },
  ...(draft.draft.value ? [{ label: 'the draft’s text', value: 'draft' }] : []),
])
const hints: Record<Beside, string> = { fact: 'user:ines.clearance = 5', subject: 'user:rui', moment: '2026-11-23T22:00:00Z', draft: '' }

const before = useAsync(api.ask)
const after = useAsync(api.ask)
const kept = useAsync(api.setFacts)
const model = useAsync(() => api.model())
const type = computed(() => permission.value.split(':')[0] ?? '')
const resourceTypes = computed(() => (model.data.value?.types ?? []).map((known) => known.key))
const permissions = computed(() =>
  (model.data.value?.types ?? []).flatMap((known) => known.actions.map((action) => `${known.key}:${action.key}`)),
)
void model.run()

/** A question whose blank is meant: who may, with what, or what. */
const blankAsked = ref<{ blank: Blank; question: Question }>()
const isBlank = (asked: unknown): asked is Blank => asked === 'holders' || asked === 'reach' || asked === 'actions'

function question(suppose: string[]): Question | undefined {
  permission.value = permissionOf(permission.value, resource.value)
  const by = token.value.trim()
  const slots = { subject: subject.value.trim(), permission: permission.value, resource: resource.value.trim() }
  const { wrong, ...said } = saidOf(context.value)
  hint.value = blank(by ? { ...slots, subject: 'token' } : slots) ?? wrong ?? ''
  const who = by ? { subject: '', token: by } : {}
  return hint.value ? undefined : { ...slots, ...who, ...said, now: now.value.trim(), suppose }
}

/** The address holds the question, so that it can be sent to somebody and comes back by Back. */
watch(
  () => route.query,
  (query) => {
    const text = (value: unknown) => (typeof value === 'string' ? value : '')
    if (!query.subject && !query.blank) return
    subject.value = text(query.subject)
    permission.value = text(query.permission)
    resource.value = text(query.resource)
    if ('context' in query) context.value = text(query.context)
    if ('now' in query) now.value = text(query.now)
    after.clear()
    if (isBlank(query.blank)) {
      before.clear()
      first.value = undefined
      hint.value = ''
      blankAsked.value = {
        blank: query.blank,
        question: {
          subject: subject.value,
          permission: permission.value,
          resource: resource.value,
          ...saidOf(context.value),
          now: now.value,
          suppose: [],
        },
      }
      return
    }
    blankAsked.value = undefined
    const asked = question([])
    if (!asked) return
    first.value = asked
    rememberQuestion(asked)
    lately.value = lastQuestions()
    void before.run({ ...asked, wouldTake: true })
  },
  { immediate: true },
)

/** A question with a token: as it comes, so that it stands nowhere else. */
function askByToken() {
  const asked = question([])
  if (!asked) return
  blankAsked.value = undefined
  after.clear()
  first.value = asked
  void before.run(asked)
}

function ask() {
  permission.value = permissionOf(permission.value, resource.value)
  if (token.value.trim()) return askByToken()
  // One slot left blank is a question of its own, as in the line below every page.
  const asked = blankOf({ subject: subject.value.trim(), permission: permission.value, resource: resource.value.trim() })
  if (!asked && !question([])) return
  const query = {
    ...(asked ? { blank: asked } : {}),
    subject: subject.value.trim(),
    permission: permission.value,
    resource: resource.value.trim(),
    ...(context.value.trim() ? { context: context.value.trim() } : {}),
    ...(now.value.trim() ? { now: now.value.trim() } : {}),
    at: String(Date.now()),
  }
  void router.push({ name: 'try', query })
}

/** Asks a second time, with one thing different, and shows both answers. */
function compare() {
  kept.clear()
  const text = fact.value.trim()
  const asked = question(beside.value === 'fact' ? [text] : [])
  if (!asked) return
  const different: Record<Beside, () => Question> = {
    fact: () => asked,
    subject: () => ({ ...asked, subject: text, token: undefined }),
    moment: () => ({ ...asked, now: text }),
    draft: () => ({ ...asked, draft: draft.draft.value!.id }),
  }
  title.value = {
    fact: `Supposing ${text}`,
    subject: `Beside it: ${text}`,
    moment: `At ${text}`,
    draft: `Under ${draft.draft.value?.id}, as it was saved`,
  }[beside.value]
  second.value = different[beside.value]()
  void after.run({ ...second.value, wouldTake: true })
}

function suppose(way: Proposal[]) {
  const asked = question(way.flatMap((change) => change.fact ?? []))
  if (!asked) return
  const sent = way.flatMap((change) => (change.context ? [change.context] : []))
  const stated = way.flatMap((change) => (change.property ? [change.property] : []))
  title.value = `Supposing ${way.map((change) => change.words).join(', and ')}`
  beside.value = 'fact'
  fact.value = way.length === 1 ? (way[0]!.fact ?? '') : ''
  kept.clear()
  void after.run({
    ...asked,
    context: { ...asked.context, ...Object.fromEntries(sent) },
    ofResource: { ...asked.ofResource, ...Object.fromEntries(stated) },
  })
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
    <NameField v-model="subject" label="Subject" :width="12" placeholder="user:ines" :types="['user', 'service']" />
    <div class="labelled token">
      <label for="token">or a token</label>
      <ElInput id="token" v-model="token" placeholder="eyJ…" autocomplete="off" spellcheck="false" clearable />
    </div>
    <NameField v-model="permission" label="Permission" :width="15" placeholder="manifest:release" :known="permissions" />
    <NameField v-model="resource" label="Resource" :width="16" placeholder="manifest:m-204, or none" :types="resourceTypes" />
    <NameField v-model="context" label="Sent along" :width="11" placeholder="zone=quay, resource.weight=3" :known="[]" />
    <MomentField v-model="now" label="Moment" name="now" placeholder="now" />
    <ElButton type="primary" native-type="submit" :loading="before.busy.value">Ask</ElButton>
    <p v-if="hint" class="denied" role="alert">{{ hint }}</p>
  </form>
  <FailureNote v-if="before.error.value" :error="before.error.value" />
  <BlankAnswer v-if="blankAsked" :question="blankAsked.question" :blank="blankAsked.blank" />
  <div v-else-if="before.data.value" class="answers">
    <AnswerSheet
      :asked="before.data.value"
      :type="type"
      :title="`As it is: may ${first?.token ? 'the bearer of the token' : subject} ${permission}${resource ? ` on ${resource}` : ''}?`"
      @suppose="suppose"
    >
      <KeepCase v-if="first && !first.token" :question="first" :answer="before.data.value.explanation" />
    </AnswerSheet>
    <div class="second">
      <form class="sheet plain" aria-label="Beside it" @submit.prevent="compare">
        <h2>Beside it</h2>
        <div class="line">
          <div class="differs">
            <span class="soft">What differs</span>
            <ElSegmented v-model="beside" :options="besides" aria-label="What differs" />
          </div>
          <label v-if="beside !== 'draft'" class="fact"
            >{{ beside === 'fact' ? 'Change one thing and ask again' : 'Ask again' }}
            <ElInput id="fact" v-model="fact" :placeholder="hints[beside]" autocomplete="off" spellcheck="false" />
          </label>
        </div>
        <div class="buttons">
          <ElButton native-type="submit" :disabled="beside !== 'draft' && !fact.trim()" :loading="after.busy.value">{{
            beside === 'fact' ? 'Suppose this' : 'Ask beside'
          }}</ElButton>
          <ElButton v-if="beside === 'fact'" :disabled="!fact.trim() || !after.data.value" :loading="kept.busy.value" @click="keep"
            >Make it so</ElButton
          >
        </div>
        <FailureNote v-if="after.error.value || kept.error.value" :error="(after.error.value ?? kept.error.value)!" />
      </form>
      <AnswerSheet v-if="after.data.value" :asked="after.data.value" :type="type" :title="title">
        <KeepCase v-if="second && !second.draft && !second.token" :question="second" :answer="after.data.value.explanation" />
      </AnswerSheet>
    </div>
  </div>
  <template v-else-if="!before.error.value && !before.busy.value">
    <p class="soft empty">
      Ask as somebody who must be refused, then as somebody who must be let in. Press <kbd>/</kbd> to ask from any page; leave a slot blank
      to ask who may, with what, or what.
    </p>
    <section v-if="lately.length" class="sheet" aria-labelledby="lately">
      <h2 id="lately">Asked lately</h2>
      <ul>
        <li v-for="one in lately" :key="JSON.stringify(one)">
          <RouterLink :to="{ name: 'try', query: { ...one } }">{{ one.subject }} {{ one.permission }} {{ one.resource }}</RouterLink>
        </li>
      </ul>
    </section>
    <TryTable :permissions="permissions" :types="resourceTypes" />
  </template>
  <AsCommand
    v-if="first && !first.token && before.data.value"
    :line="`ostrog ask ${first.subject} ${first.permission}${first.resource ? ` ${first.resource}` : ''} --why`"
  />
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
.token {
  width: 9em;
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
.differs {
  display: grid;
  gap: 2px;
}
.fact {
  flex: 1 1 200px;
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
