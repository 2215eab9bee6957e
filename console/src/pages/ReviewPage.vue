<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import { RouterLink, useRoute } from 'vue-router'
import { api } from '../api/calls'
import type { File, ToAccept } from '../api/types'
import AsCommand from '../components/AsCommand.vue'
import AskFirst from '../components/AskFirst.vue'
import ChangesTable from '../components/ChangesTable.vue'
import FailureNote from '../components/FailureNote.vue'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'
import { useStatus } from '../composables/useStatus'
import { happened } from '../support/happened'
import { changedFiles } from '../support/lines'
import { counted, moment } from '../support/words'

/** One draft, as whoever approves it reads it: in words, as text, its people, its proofs, and two buttons. */
const route = useRoute()
const status = useStatus()
const own = useDraft()
const id = computed(() => String(route.params.id))
const draft = useAsync(api.draft)
const review = useAsync(api.review)
const base = useAsync(api.revision)
const approved = useAsync(api.approve)
const returned = useAsync(api.giveBack)
const remarked = useAsync(api.remark)
const put = useAsync(api.rollOut)
const discarded = useAsync(api.discard)
const notes = reactive<Record<string, string>>({})
const note = ref('')
const remark = ref('')
const line = ref<{ path: string; line: number }>()
const approving = ref(false)
const returning = ref(false)
const putting = ref(false)
const discarding = ref(false)
const unfit = ref(false)
const shown = computed(() => draft.data.value)
const items = computed(() => review.data.value?.['to-accept'] ?? [])
const KINDS: [ToAccept['kind'], string][] = [
  ['gain', 'Who gains'],
  ['loss', 'Who loses'],
  ['guarantee', 'Guarantees that do not hold'],
  ['check', 'What weakens the checks'],
]
const groups = computed(() =>
  KINDS.map(([kind, title]) => ({ title, items: items.value.filter((item) => item.kind === kind) })).filter((group) => group.items.length),
)
const missing = computed(() => items.value.filter((item) => !notes[item.id]?.trim()).length)
const errors = computed(() => shown.value?.standing.findings.filter((finding) => finding.severity === 'error').length ?? 0)
const isAlone = computed(() => review.data.value?.needed === 0)
const canApprove = computed(() => review.data.value && !review.data.value.blocked.length && !review.data.value['not-you'] && !missing.value)
const texts = computed(() => changedFiles(base.data.value?.files ?? ([] as File[]), shown.value?.files ?? []))
const remarksAt = (path: string, number?: number) =>
  review.data.value?.comments.filter((comment) => comment.path === path && comment.line === number && number !== undefined) ?? []
const remarks = computed(() => review.data.value?.comments.filter((comment) => !comment.path) ?? [])

async function look() {
  const [found] = await Promise.all([draft.run(id.value), review.run(id.value)])
  const from = found?.draft.base
  if (found && base.data.value?.revision.number !== from) {
    if (from == null) base.clear()
    else await base.run(String(from))
  }
}
watch([id, () => status.data.value?.position, () => own.draft.value?.digest], look, { immediate: true })

async function approve() {
  const accepts = Object.fromEntries(items.value.map((item) => [item.id, notes[item.id]!.trim()]))
  const { digest, report } = review.data.value!
  const asked = { digest, ...(report ? { report } : {}), accepts, ...(note.value.trim() ? { note: note.value.trim() } : {}) }
  const done = await approved.run(id.value, asked)
  approving.value = false
  if (!done) return
  note.value = ''
  if (!done.revision) await look()
}
async function giveBack() {
  await returned.run(id.value, note.value.trim())
  returning.value = false
  if (returned.error.value) return
  note.value = ''
  await look()
}
async function say() {
  await remarked.run(id.value, { text: remark.value.trim(), ...(line.value ?? {}) })
  if (remarked.error.value) return
  remark.value = ''
  line.value = undefined
  await review.run(id.value)
}
async function putLive() {
  const more = { ...(note.value.trim() ? { note: note.value.trim() } : {}), 'accept-unfit': unfit.value }
  const done = await put.run({ what: id.value, for: 'all', ...more })
  putting.value = false
  if (!done) return
  if (own.draft.value?.id === id.value) own.leave()
  await status.run()
}
async function discard() {
  const done = await discarded.run(id.value)
  discarding.value = false
  if (!done) return
  if (own.draft.value?.id === id.value) own.leave()
  happened(`${id.value} is discarded`, { back: () => api.restoreDraft(id.value), then: look })
}
const failures = computed(() => [approved, returned, remarked, put, discarded].filter((call) => call.error.value))
const ended = computed(() => approved.data.value?.revision ?? put.data.value?.revision.number)
</script>

<template>
  <p class="soft"><RouterLink :to="{ name: 'rollout' }">Roll out</RouterLink></p>
  <h1>
    {{ id }}<template v-if="shown">: {{ shown.draft.title }}</template>
  </h1>
  <FailureNote v-for="one in failures" :key="one.error.value!.message" :error="one.error.value!" />
  <p v-if="ended" role="status">
    {{ id }} is revision {{ ended }}{{ put.data.value ? ', and live' : '' }}.
    <RouterLink :to="{ name: 'rollout' }">{{ put.data.value ? 'See what is live where' : 'Roll it out' }}</RouterLink>
  </p>
  <p v-else-if="discarded.data.value" role="status">{{ id }} is discarded. For thirty days it can be taken back from Roll out.</p>
  <FailureNote v-else-if="draft.error.value" :error="draft.error.value" />
  <ElSkeleton v-else-if="!shown" :rows="6" animated />
  <template v-if="shown && !ended && !discarded.data.value">
    <section class="sheet draft plain" aria-labelledby="stands">
      <h2 id="stands">How it stands</h2>
      <FailureNote v-if="review.error.value" :error="review.error.value" />
      <template v-if="review.data.value">
        <p>
          Edited by {{ review.data.value.editors.join(', ') || 'nobody on record' }}; saved {{ moment(shown.draft['saved-at']) }}.
          <strong v-if="!isAlone">{{ review.data.value.approvals }} of {{ counted(review.data.value.needed, 'approval') }}.</strong>
          <template v-else>Nobody has to approve it here.</template>
        </p>
        <p>
          <template v-if="review.data.value.report"
            >Rehearsal {{ review.data.value.report }}: {{ review.data.value.found }}.
            <a :href="`/api/v1/rehearsals/${review.data.value.report}/page`" target="_blank" rel="noopener">Read the report</a></template
          >
          <template v-else>It was not rehearsed as it is now. <RouterLink :to="{ name: 'rehearse' }">Rehearse it</RouterLink></template>
        </p>
        <ul v-if="!isAlone && review.data.value.blocked.length">
          <li v-for="why in review.data.value.blocked" :key="why" class="undetermined">Not yet: {{ why }}</li>
        </ul>
        <ul v-if="review.data.value.reviews.length">
          <li v-for="one in review.data.value.reviews" :key="one.at">
            <span :class="one.verdict === 'return' ? 'denied' : one.counts ? 'allowed' : 'soft'">{{
              one.verdict === 'return' ? 'returned' : one.counts ? 'approved' : 'approved, void'
            }}</span>
            by {{ one.by }}, {{ moment(one.at) }}<template v-if="one.note">: {{ one.note }}</template
            ><span v-if="one.voided" class="soft"> ({{ one.voided }})</span>
          </li>
        </ul>
      </template>
      <ElAlert
        v-if="!shown.standing.fits"
        type="error"
        :closable="false"
        role="alert"
        title="Another revision went live since it was begun."
      >
        Bring that into it, and save it with <code>ostrog draft save DIR --draft {{ id }} --onto-live</code>.
      </ElAlert>
      <p v-if="own.isChanged.value && own.draft.value?.id === id" role="alert" class="undetermined">
        What is not saved yet is not in it. <ElButton size="small" :loading="own.busy.value" @click="own.save">Save it</ElButton>
      </p>
    </section>

    <section v-if="shown.standing.findings.length" class="sheet plain" aria-labelledby="findings">
      <h2 id="findings">{{ errors ? counted(errors, 'error') : counted(shown.standing.findings.length, 'doubt') }}</h2>
      <ul>
        <li v-for="finding in shown.standing.findings" :key="finding.at + finding.message">
          <code>{{ finding.at }}</code> {{ finding.message }}<span v-if="finding.help" class="soft">; {{ finding.help }}</span>
        </li>
      </ul>
    </section>

    <section v-if="!errors" class="sheet plain" aria-labelledby="words">
      <h2 id="words">What it changes</h2>
      <p v-if="!shown.standing.changes.length">It means the same as what is live.</p>
      <ChangesTable v-else :changes="shown.standing.changes" />
    </section>

    <section v-if="groups.length && !isAlone" class="sheet plain" aria-labelledby="people">
      <h2 id="people">What every approver accepts</h2>
      <p class="soft">Each with a note, which is kept.</p>
      <section v-for="group in groups" :key="group.title">
        <h3>{{ group.title }}</h3>
        <ul>
          <li v-for="item in group.items" :key="item.id" class="item">
            <span>
              <strong v-if="item.first" class="denied">{{ item.first }}: </strong>{{ item.words }}
              <details v-if="item.subjects && item.subjects.length > 1">
                <summary>{{ counted(item.subjects.length, 'name') }}</summary>
                {{ item.subjects.join(', ') }}
              </details>
              <details v-if="item.told?.length">
                <summary>how</summary>
                <p v-for="one in item.told" :key="one">{{ one }}</p>
              </details>
            </span>
            <ElInput
              v-if="!review.data.value?.['not-you']"
              v-model="notes[item.id]"
              :name="`note-${item.id}`"
              :aria-label="`Why it is accepted that ${item.words}`"
              placeholder="why that is right"
              maxlength="400"
            />
          </li>
        </ul>
      </section>
    </section>

    <section v-if="texts.length" class="sheet plain" aria-labelledby="text">
      <h2 id="text">Its text beside what it began from</h2>
      <section v-for="file in texts" :key="file.path" :aria-label="file.path">
        <h3>
          <code>{{ file.path }}</code>
        </h3>
        <div v-for="(part, at) in file.parts" :key="at" class="part" role="group" :aria-label="`Lines of ${file.path}`">
          <template v-for="(one, n) in part" :key="n">
            <div class="text" :class="{ more: one.sign === '+', less: one.sign === '-' }">
              <span class="number">{{ one.number ?? '' }}</span><span class="sign" aria-hidden="true">{{ one.sign }}</span>
              <span v-if="one.sign === '-'" class="visually-hidden">gone: </span
              ><span v-if="one.sign === '+'" class="visually-hidden">new: </span><code>{{ one.text || ' ' }}</code>
              <ElButton
                v-if="one.number && one.sign === '+'"
                link
                size="small"
                class="say"
                :aria-label="`Remark on line ${one.number} of ${file.path}`"
                @click="line = { path: file.path, line: one.number }"
                >remark</ElButton
              >
            </div>
            <p v-for="comment in remarksAt(file.path, one.number)" :key="comment.at" class="remark">
              {{ comment.text }} <span class="soft">{{ comment.by }}, {{ moment(comment.at) }}</span>
            </p>
          </template>
        </div>
      </section>
    </section>

    <section class="sheet plain" aria-labelledby="remarks">
      <h2 id="remarks">Remarks</h2>
      <p v-if="!remarks.length" class="soft">None on it as a whole.</p>
      <p v-for="comment in remarks" :key="comment.at">
        {{ comment.text }} <span class="soft">{{ comment.by }}, {{ moment(comment.at) }}</span>
      </p>
      <form class="saying" @submit.prevent="say">
        <label class="plain"
          >{{ line ? `On line ${line.line} of ${line.path}` : 'On it as a whole'
          }}<ElInput v-model="remark" name="remark" type="textarea" :rows="2" maxlength="4000"
        /></label>
        <ElButton native-type="submit" :disabled="!remark.trim()" :loading="remarked.busy.value">Say it</ElButton>
        <ElButton v-if="line" link @click="line = undefined">not on that line</ElButton>
      </form>
    </section>

    <section v-if="shown.standing.unfit.length" class="sheet plain" aria-labelledby="unfit">
      <h2 id="unfit">Facts that it does not permit</h2>
      <ul>
        <li v-for="fact in shown.standing.unfit" :key="fact">{{ fact }}</li>
      </ul>
    </section>

    <section class="sheet actions" aria-label="What is done with it">
      <template v-if="isAlone">
        <ElCheckbox v-if="shown.standing.unfit.length" v-model="unfit" name="accepted">Facts that do not fit may give nothing</ElCheckbox>
        <ElButton
          type="primary"
          :disabled="Boolean(errors) || !shown.standing.fits || (shown.standing.unfit.length > 0 && !unfit)"
          @click="putting = true"
          >Put live</ElButton
        >
      </template>
      <template v-else>
        <ElButton type="primary" :disabled="!canApprove" @click="approving = true">Approve</ElButton>
        <ElButton :disabled="Boolean(review.data.value?.['not-you'])" @click="returning = true">Return it</ElButton>
        <span v-if="review.data.value?.['not-you']" class="soft">{{ review.data.value['not-you'] }}</span>
        <span v-else-if="missing" class="soft">{{ counted(missing, 'thing is', 'things are') }} not accepted yet</span>
      </template>
      <ElButton v-if="own.draft.value?.id !== id" @click="own.open(id)">Go on writing it</ElButton>
      <ElButton @click="discarding = true">Discard</ElButton>
    </section>
    <AsCommand :line="isAlone ? `ostrog rollout ${id} --for all` : `ostrog approve ${id} --accept all --note '…'`" />

    <AskFirst v-model="approving" :title="`Approve ${id}?`" answer="Approve it" :busy="approved.busy.value" @confirmed="approve">
      <p>
        Exactly this text and these checks, and what you accept. A change of any of them voids it. With the last approval it becomes a
        revision; it goes live when somebody rolls it out.
      </p>
      <label class="plain">Why<ElInput v-model="note" name="note" maxlength="400" autocomplete="off" placeholder="kept with it" /></label>
    </AskFirst>
    <AskFirst
      v-model="returning"
      :title="`Return ${id}?`"
      answer="Return it"
      :busy="returned.busy.value"
      :disabled="!note.trim()"
      @confirmed="giveBack"
    >
      <p>Its editors are told what is to be mended. It cannot be approved until it is saved anew.</p>
      <label class="plain">What is to be mended<ElInput v-model="note" name="note" type="textarea" :rows="3" maxlength="4000" /></label>
    </AskFirst>
    <AskFirst v-model="putting" :title="`Put ${id} live?`" answer="Put it live now, for all" :busy="put.busy.value" @confirmed="putLive">
      <p>
        {{ counted(shown.standing.changes.length, 'change') }} of meaning, from revision {{ shown.draft.base ?? 'nothing' }}. It counts at
        once, for every application, on every node.
      </p>
      <p v-if="!review.data.value?.report" class="denied">It was never rehearsed as it is: nobody knows who would lose by it.</p>
      <p v-else>Rehearsed: {{ review.data.value.found }}</p>
      <label class="plain"
        >Why<ElInput v-model="note" name="note" maxlength="400" autocomplete="off" placeholder="kept with the change"
      /></label>
    </AskFirst>
    <AskFirst v-model="discarding" danger :title="`Discard ${id}?`" answer="Discard it" :busy="discarded.busy.value" @confirmed="discard">
      <p>{{ shown.draft.title }}. Whoever has it open is told, and keeps their text; for thirty days it can be taken back.</p>
    </AskFirst>
  </template>
</template>

<style scoped>
.sheet {
  margin: 0 0 16px;
}
.draft {
  padding-left: 28px;
  background:
    repeating-linear-gradient(45deg, var(--draft) 0 3px, transparent 3px 7px) left / 8px 100% no-repeat,
    var(--sheet);
}
h3 {
  font-size: 14px;
  margin: 12px 0 4px;
}
p {
  margin: 4px 0;
}
ul {
  margin: 4px 0;
  padding: 0;
  list-style: none;
}
.item {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(180px, 2fr);
  gap: 8px 16px;
  align-items: start;
  padding: 6px 0;
  border-bottom: 1px solid var(--rule);
}
@media (max-width: 760px) {
  .item {
    grid-template-columns: 1fr;
  }
}
.part {
  border: 1px solid var(--rule);
  margin: 4px 0 8px;
  overflow-x: auto;
}
.text {
  display: flex;
  gap: 6px;
  white-space: pre;
  padding: 0 6px;
}
.text code {
  flex: 1;
  background: none;
}
.number {
  width: 3.5em;
  text-align: right;
  color: var(--soft);
}
.sign {
  width: 1em;
}
.more {
  background: var(--allowed-ground);
}
.less {
  background: var(--denied-ground);
}
.remark {
  margin: 2px 8px 6px 5.5em;
  padding: 2px 8px;
  border-left: 2px solid var(--draft);
}
.saying {
  display: grid;
  gap: 8px;
  justify-items: start;
}
.saying label {
  width: 100%;
}
.actions {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
}
summary {
  cursor: pointer;
  min-height: 24px;
}
</style>
