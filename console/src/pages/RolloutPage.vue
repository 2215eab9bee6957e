<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref, watch, type Ref } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api, type RollingOut } from '../api/calls'
import type { Draft, Revision } from '../api/types'
import AsCommand from '../components/AsCommand.vue'
import AskFirst from '../components/AskFirst.vue'
import FailureNote from '../components/FailureNote.vue'
import LiveTable from '../components/LiveTable.vue'
import RolloutHistory from '../components/RolloutHistory.vue'
import ShadowPanel from '../components/ShadowPanel.vue'
import ShiftTable from '../components/ShiftTable.vue'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'
import { useKeyNames } from '../composables/useKeyNames'
import { useStatus } from '../composables/useStatus'
import { counted, moment } from '../support/words'

const route = useRoute()
const router = useRouter()
const status = useStatus()
const own = useDraft()
const names = useKeyNames()
const live = useAsync(api.live)
const revisions = useAsync(api.revisions)
const drafts = useAsync(api.drafts)
const gone = useAsync(api.discardedDrafts)
const waiting = useAsync(api.waiting)
const shadows = useAsync(api.shadows)
const steps = useAsync(api.steps)
const asked = useAsync(api.asked)
const put = useAsync(api.rollOut)
const would = useAsync(api.rollOut)
const back = useAsync(api.rollBack)
const restored = useAsync(api.restoreDraft)
const begun = useAsync(api.beginShadow)
const barred = useAsync(api.bar)
const note = ref('')
const unfit = ref(false)
/** What is asked about before it is done. */
const putting = ref<RollingOut>()
const goingBack = ref('')
const shadowing = ref<Revision>()
const shutting = ref<Revision>()
const applications = ref<string[]>([])
const open = <T,>(of: Ref<T>, none: T) => computed({ get: () => Boolean(of.value), set: (is: boolean) => void (is || (of.value = none)) })
const isPutting = open(putting, undefined)
const isGoingBack = open(goingBack, '')
const isShadowing = open(shadowing, undefined)
const isShutting = open(shutting, undefined)
const known = computed(() => live.data.value?.map((one) => one.application) ?? [])
const running = computed(() => shadows.data.value?.filter((shadow, at) => !shadow.ended || at === 0) ?? [])
const stateOf = (id: string) => waiting.data.value?.find((one) => one.id === id)
const backTo = computed(() => live.data.value?.find((one) => one.application === goingBack.value)?.back)

async function look() {
  await Promise.all([live.run(), revisions.run(), drafts.run(), gone.run(), waiting.run(), shadows.run(), steps.run(), asked.run()])
}
onMounted(() => {
  // An address from before a draft had a page of its own.
  if (typeof route.query.draft === 'string') void router.replace({ name: 'review', params: { id: route.query.draft } })
})
watch(() => status.data.value?.position, look, { immediate: true })
/** A shadow counts without a change of position: it is looked at for as long as one runs. */
const looking = setInterval(() => {
  if (shadows.data.value?.some((shadow) => !shadow.ended) && !document.hidden) void shadows.run()
}, 2_000)
onUnmounted(() => clearInterval(looking))

/** What putting it live would move is told before it is. */
function ask(what: string, forWhom: string) {
  note.value = ''
  unfit.value = false
  would.clear()
  put.clear()
  putting.value = { what, for: forWhom }
  void would.run({ what, for: forWhom, check: true })
}
async function putLive() {
  const more = { ...(note.value.trim() ? { note: note.value.trim() } : {}), 'accept-unfit': unfit.value }
  const done = await put.run({ ...putting.value!, ...more })
  if (!done) return
  putting.value = undefined
  await Promise.all([status.run(), look()])
}
async function goBack() {
  if (!(await back.run(goingBack.value, note.value.trim()))) return
  goingBack.value = ''
  note.value = ''
  await Promise.all([status.run(), look()])
}
async function beginShadow() {
  if (!(await begun.run(shadowing.value!.number, applications.value.join(',') || 'all'))) return
  shadowing.value = undefined
  await look()
}
async function shut() {
  if (!(await barred.run(shutting.value!.number, note.value.trim()))) return
  shutting.value = undefined
  note.value = ''
  await look()
}
async function restore(one: Draft) {
  if (await restored.run(one.id)) await look()
}
const failures = computed(() => [put, back, restored, begun, barred].filter((call) => call.error.value))
const state = (revision: Revision) =>
  revision.barred ? `shut: ${revision.barred}` : revision.approved ? '' : 'urgent, nobody approved it yet'
</script>

<template>
  <h1>Roll out</h1>
  <FailureNote v-for="one in failures" :key="one.error.value!.message" :error="one.error.value!" />
  <p v-if="put.data.value" role="status">
    Revision {{ put.data.value.revision.number }} is live for {{ Object.keys(put.data.value.live).join(', ') }}: {{ put.data.value.words }}
  </p>
  <p v-if="back.data.value" role="status">
    Back to revision {{ back.data.value.revision.number }} for {{ Object.keys(back.data.value.live).join(', ') }}:
    {{ back.data.value.words }}
  </p>

  <section class="sheet plain" aria-labelledby="live">
    <h2 id="live">What is live where</h2>
    <FailureNote v-if="live.error.value" :error="live.error.value" />
    <ElSkeleton v-else-if="!live.data.value" :rows="3" animated />
    <p v-else-if="!live.data.value.length">
      Nothing is live. <RouterLink :to="{ name: 'describe' }">Describe the first application</RouterLink>.
    </p>
    <LiveTable
      v-else
      :live="live.data.value"
      :revisions="revisions.data.value ?? []"
      :shadows="shadows.data.value ?? []"
      @back="((goingBack = $event), (note = ''))"
      @on="(revision, application) => ask(String(revision), application)"
    />
  </section>

  <div class="columns">
    <section class="sheet" aria-labelledby="drafts">
      <h2 id="drafts">Drafts and approvals</h2>
      <FailureNote v-if="drafts.error.value" :error="drafts.error.value" />
      <ElSkeleton v-else-if="!drafts.data.value" :rows="2" animated />
      <p v-else-if="!drafts.data.value.length">
        No draft is under way. <RouterLink :to="{ name: 'describe' }">Begin one</RouterLink>, or save a charter as one:
        <code>ostrog draft save DIR --title …</code>
      </p>
      <ul v-else>
        <li v-for="one in drafts.data.value" :key="one.id">
          <RouterLink class="id" :to="{ name: 'review', params: { id: one.id } }">{{ one.id }}</RouterLink>
          {{ one.title }}
          <span v-if="own.draft.value?.id === one.id" class="draft">being written here</span>
          <span class="soft">saved {{ moment(one['saved-at']) }}</span>
          <br /><span v-if="stateOf(one.id)" :class="stateOf(one.id)!['not-yet'] ? 'soft' : 'allowed'">{{
            stateOf(one.id)!['not-yet'] ?? `waits for you: ${stateOf(one.id)!.approvals} of ${stateOf(one.id)!.needed} approvals`
          }}</span>
        </li>
      </ul>
      <details v-if="gone.data.value?.length">
        <summary>{{ counted(gone.data.value.length, 'discarded draft') }}</summary>
        <ul>
          <li v-for="one in gone.data.value" :key="one.id">
            {{ one.id }} {{ one.title }} <span class="soft">discarded {{ moment(one['discarded-at']!) }}</span>
            <ElButton size="small" :aria-label="`Take back ${one.id}`" :loading="restored.busy.value" @click="restore(one)"
              >Take it back</ElButton
            >
          </li>
        </ul>
      </details>
    </section>
    <section class="sheet plain" aria-labelledby="revisions">
      <h2 id="revisions">Revisions</h2>
      <FailureNote v-if="revisions.error.value" :error="revisions.error.value" />
      <ElSkeleton v-else-if="!revisions.data.value" :rows="2" animated />
      <ul v-else>
        <li v-for="revision in revisions.data.value" :key="revision.number">
          <strong>{{ revision.number }}</strong> {{ revision.title }}
          <span class="soft">{{ moment(revision['created-at']) }}, by {{ names.called(revision.author) }}</span>
          <span v-if="state(revision)" class="denied">{{ state(revision) }}</span>
          <span v-if="!revision.barred" class="does">
            <ElButton v-if="revision.approved" size="small" @click="ask(String(revision.number), 'all')">Roll out for all</ElButton>
            <ElButton size="small" @click="((shadowing = revision), (applications = []))">Shadow</ElButton>
            <ElButton size="small" @click="((shutting = revision), (note = ''))">Shut</ElButton>
          </span>
        </li>
      </ul>
    </section>
  </div>

  <section v-if="running.length" class="sheet plain" aria-labelledby="shadows">
    <h2 id="shadows">In the shadow</h2>
    <ShadowPanel v-for="shadow in running" :key="shadow.number" :shadow="shadow" @ended="look" />
  </section>

  <section class="sheet plain below" aria-labelledby="history">
    <h2 id="history">History</h2>
    <FailureNote v-if="steps.error.value" :error="steps.error.value" />
    <ElSkeleton v-else-if="!steps.data.value" :rows="3" animated />
    <RolloutHistory v-else :steps="steps.data.value" :asked="asked.data.value" />
  </section>

  <AskFirst
    v-model="isPutting"
    :title="`Put revision ${putting?.what} live for ${putting?.for === 'all' ? 'all' : putting?.for}?`"
    answer="Put it live now"
    :busy="put.busy.value"
    :disabled="Boolean(would.error.value) || (Boolean(would.data.value?.unfit?.length) && !unfit)"
    @confirmed="putLive"
  >
    <FailureNote v-if="would.error.value" :error="would.error.value" />
    <FailureNote v-else-if="put.error.value" :error="put.error.value" />
    <p v-if="would.busy.value" class="soft">Asking who would gain and who would lose …</p>
    <template v-if="would.data.value">
      <p>It counts at once, on every node. {{ would.data.value.words }}.</p>
      <ShiftTable v-if="would.data.value.shift.lines.length" :shift="would.data.value.shift" />
      <template v-if="would.data.value.unfit?.length">
        <p>{{ counted(would.data.value.unfit.length, 'fact') }} would not fit, and give nothing:</p>
        <ul>
          <li v-for="fact in would.data.value.unfit.slice(0, 10)" :key="fact">{{ fact }}</li>
        </ul>
        <ElCheckbox v-model="unfit" name="accepted">They may give nothing</ElCheckbox>
      </template>
    </template>
    <label class="plain"
      >Why<ElInput v-model="note" name="note" maxlength="400" autocomplete="off" placeholder="kept with the change"
    /></label>
    <AsCommand :line="`ostrog rollout ${putting?.what} --for ${putting?.for}`" />
  </AskFirst>
  <AskFirst
    v-model="isGoingBack"
    :title="`Roll ${goingBack} back to revision ${backTo}?`"
    answer="Roll back now"
    :busy="back.busy.value"
    :disabled="!note.trim()"
    @confirmed="goBack"
  >
    <FailureNote v-if="back.error.value" :error="back.error.value" />
    <p>It counts at once, on every node. Once more goes further back, never forward: what is left is rolled out anew.</p>
    <label class="plain"
      >Why<ElInput v-model="note" name="note" maxlength="400" autocomplete="off" placeholder="kept with the change"
    /></label>
    <AsCommand :line="`ostrog rollback --for ${goingBack} --note '${note.trim()}'`" />
  </AskFirst>
  <AskFirst
    v-model="isShadowing"
    :title="`Revision ${shadowing?.number} in the shadow?`"
    answer="Begin it"
    :busy="begun.busy.value"
    @confirmed="beginShadow"
  >
    <p>Live questions are answered once more under it. Callers notice nothing; what differs is counted and kept.</p>
    <label class="plain"
      >Whose questions<ElSelect v-model="applications" multiple placeholder="all" aria-label="Whose questions"
        ><ElOption v-for="application in known" :key="application" :value="application" :label="application" /></ElSelect
    ></label>
    <AsCommand :line="`ostrog shadow ${shadowing?.number} --for ${applications.join(',') || 'all'}`" />
  </AskFirst>
  <AskFirst
    v-model="isShutting"
    danger
    :title="`Shut revision ${shutting?.number} for good?`"
    answer="Shut it"
    :busy="barred.busy.value"
    :disabled="!note.trim()"
    @confirmed="shut"
  >
    <FailureNote v-if="barred.error.value" :error="barred.error.value" />
    <p>It never goes live again, and nothing goes back to it. That cannot be taken back.</p>
    <label class="plain">Why<ElInput v-model="note" name="note" maxlength="400" autocomplete="off" placeholder="kept with it" /></label>
  </AskFirst>
</template>

<style scoped>
h1 + .sheet {
  margin-top: 16px;
}
.columns {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(340px, 100%), 1fr));
  gap: 16px;
  margin: 16px 0;
}
ul {
  margin: 8px 0;
  padding: 0;
  list-style: none;
}
li {
  padding: 5px 0;
  border-bottom: 1px solid var(--rule);
}
li .soft,
li .draft {
  margin-left: 8px;
}
.does {
  display: block;
}
.id {
  font-weight: 700;
}
.draft {
  color: var(--draft);
}
.below {
  margin-top: 16px;
}
summary {
  cursor: pointer;
  min-height: 24px;
}
</style>
