<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'
import { RouterLink, useRoute } from 'vue-router'
import { api } from '../api/calls'
import type { Draft, Revision } from '../api/types'
import AsCommand from '../components/AsCommand.vue'
import AskFirst from '../components/AskFirst.vue'
import ChangesTable from '../components/ChangesTable.vue'
import FailureNote from '../components/FailureNote.vue'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'
import { useKeyNames } from '../composables/useKeyNames'
import { useStatus } from '../composables/useStatus'
import { happened } from '../support/happened'
import { rehearsedState } from '../support/rehearsed'
import { counted, moment } from '../support/words'

const route = useRoute()
const status = useStatus()
const own = useDraft()
const names = useKeyNames()
const revisions = useAsync(api.revisions)
const drafts = useAsync(api.drafts)
const gone = useAsync(api.discardedDrafts)
const runs = useAsync(api.rehearsals)
const opened = useAsync(api.draft)
const put = useAsync(api.rollOut)
const discarded = useAsync(api.discard)
const restored = useAsync(api.restoreDraft)
const note = ref('')
const accepted = ref(false)
/** What is asked about before it is done. */
const putting = ref(false)
const discarding = ref(false)
const back = ref<Revision>()
const goingBack = computed({ get: () => Boolean(back.value), set: (open: boolean) => void (open || (back.value = undefined)) })
const live = computed(() => status.data.value?.revision?.number)
const draft = computed(() => opened.data.value)
const errors = computed(() => draft.value?.standing.findings.filter((finding) => finding.severity === 'error').length ?? 0)
const isReady = computed(
  () => draft.value && !errors.value && draft.value.standing.fits && (accepted.value || !draft.value.standing.unfit.length),
)
/** How its rehearsal stands, and who would lose, as the last one found. */
const rehearsed = computed(() => (draft.value && runs.data.value ? rehearsedState(runs.data.value, draft.value.draft, false) : ''))
const lastRun = computed(() => runs.data.value?.find((run) => run.of === draft.value?.draft.id))

async function look() {
  await Promise.all([status.run(), revisions.run(), drafts.run(), gone.run(), runs.run()])
}
onMounted(() => {
  void look()
  if (typeof route.query.draft === 'string') open(route.query.draft)
})
// The draft that is being written here, once it is there, and anew when it is saved.
watch(
  () => own.draft.value?.digest,
  (digest) => {
    const id = own.draft.value?.id
    if (digest && id && (!draft.value || draft.value.draft.id === id) && !route.query.draft) open(id)
  },
  { immediate: true },
)

function open(id: string) {
  accepted.value = false
  void opened.run(id)
}

async function putLive(what: string) {
  const done = await put.run(what, note.value.trim(), accepted.value)
  putting.value = false
  back.value = undefined
  if (!done) return
  note.value = ''
  if (own.draft.value?.id === what) own.leave()
  opened.clear()
  await look()
}

async function discard(id: string) {
  const done = await discarded.run(id)
  discarding.value = false
  if (!done) return
  if (own.draft.value?.id === id) own.leave()
  opened.clear()
  happened(`${id} is discarded`, { back: () => api.restoreDraft(id), then: look })
  await look()
}

async function restore(one: Draft) {
  if (await restored.run(one.id)) await look()
}
</script>

<template>
  <h1>Roll out</h1>
  <FailureNote
    v-for="one in [put, discarded, restored].filter((call) => call.error.value)"
    :key="one.error.value!.message"
    :error="one.error.value!"
  />
  <p v-if="put.data.value" role="status">Revision {{ put.data.value.number }} is live: {{ put.data.value.title }}</p>
  <p v-if="discarded.data.value" role="status">
    {{ discarded.data.value.id }} is discarded. For thirty days it can be taken back from here.
  </p>
  <div class="columns">
    <section class="sheet" aria-labelledby="drafts">
      <h2 id="drafts">Drafts</h2>
      <FailureNote v-if="drafts.error.value" :error="drafts.error.value" />
      <ElSkeleton v-else-if="!drafts.data.value" :rows="2" animated />
      <p v-else-if="!drafts.data.value.length">
        No draft is under way. <RouterLink :to="{ name: 'describe' }">Begin one</RouterLink>, or save a charter as one:
        <code>ostrog draft save DIR --title …</code>
      </p>
      <ul v-else>
        <li v-for="one in drafts.data.value" :key="one.id">
          <ElButton link class="id" :aria-expanded="draft?.draft.id === one.id" @click="open(one.id)">{{ one.id }}</ElButton>
          {{ one.title }}
          <span class="soft">from {{ one.base === null ? 'nothing' : `revision ${one.base}` }}, saved {{ moment(one['saved-at']) }}</span>
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
          <strong v-if="revision.number === live">{{ revision.number }}, live</strong>
          <template v-else>{{ revision.number }}</template>
          {{ revision.title }}
          <span class="soft">{{ moment(revision['created-at']) }}, by {{ names.called(revision.author) }}</span>
          <ElButton v-if="revision.number !== live" size="small" @click="back = revision">Go back to it</ElButton>
        </li>
      </ul>
    </section>
  </div>

  <FailureNote v-if="opened.error.value" :error="opened.error.value" />
  <article v-if="draft" class="sheet draft plain" aria-labelledby="opened">
    <h2 id="opened">{{ draft.draft.id }}: {{ draft.draft.title }}</h2>
    <p :class="{ undetermined: lastRun?.state !== 'held' }">
      Its rehearsal: {{ rehearsed || 'not known' }}<template v-if="lastRun">, {{ moment(lastRun['started-at']) }}</template
      >. <RouterLink :to="{ name: 'rehearse' }">{{ lastRun ? 'See it' : 'Rehearse it' }}</RouterLink>
    </p>
    <p v-if="own.isChanged.value && own.draft.value?.id === draft.draft.id" role="alert" class="undetermined">
      What is not saved yet is not in it. <ElButton size="small" :loading="own.busy.value" @click="own.save">Save it</ElButton>
    </p>
    <ElAlert v-if="!draft.standing.fits" type="error" :closable="false" role="alert" title="Another revision went live since it was begun.">
      Bring that into it, and save it with <code>ostrog draft save DIR --draft {{ draft.draft.id }} --onto-live</code>.
    </ElAlert>
    <section v-if="draft.standing.findings.length">
      <h3>{{ errors ? counted(errors, 'error') : counted(draft.standing.findings.length, 'doubt') }}</h3>
      <ul>
        <li v-for="finding in draft.standing.findings" :key="finding.at + finding.message">
          <code>{{ finding.at }}</code> {{ finding.message }}<span v-if="finding.help" class="soft">; {{ finding.help }}</span>
        </li>
      </ul>
    </section>
    <section v-if="!errors">
      <h3>What it changes</h3>
      <p v-if="!draft.standing.changes.length">It means the same as what is live.</p>
      <ChangesTable v-else :changes="draft.standing.changes" />
    </section>
    <section v-if="draft.standing.unfit.length">
      <h3>Facts that it does not permit</h3>
      <ul>
        <li v-for="fact in draft.standing.unfit" :key="fact">{{ fact }}</li>
      </ul>
      <ElCheckbox v-model="accepted" name="accepted">They may give nothing</ElCheckbox>
    </section>
    <p class="actions">
      <ElButton type="primary" :disabled="!isReady" @click="putting = true">Put live</ElButton>
      <ElButton v-if="own.draft.value?.id !== draft.draft.id" @click="own.open(draft.draft.id)">Go on writing it</ElButton>
      <ElButton @click="discarding = true">Discard</ElButton>
    </p>
    <AsCommand v-if="isReady" :line="`ostrog rollout ${draft.draft.id}${note.trim() ? ` --note '${note.trim()}'` : ''}`" />
    <AskFirst
      v-model="putting"
      :title="`Put ${draft.draft.id} live?`"
      answer="Put it live now, for all"
      :busy="put.busy.value"
      @confirmed="putLive(draft.draft.id)"
    >
      <p>
        {{ counted(draft.standing.changes.length, 'change') }} of meaning, from revision {{ draft.draft.base ?? 'nothing' }}. It counts at
        once, for every application, on every node.
      </p>
      <p :class="lastRun?.state === 'held' ? '' : 'denied'">
        {{
          lastRun
            ? `Rehearsed ${moment(lastRun['started-at'])}: ${lastRun.words}`
            : 'It was never rehearsed: nobody knows who would lose by it.'
        }}
      </p>
      <p v-if="draft.standing.unfit.length">{{ counted(draft.standing.unfit.length, 'fact') }} would give nothing.</p>
      <label class="plain"
        >Why<ElInput v-model="note" name="note" maxlength="400" autocomplete="off" placeholder="kept with the change"
      /></label>
    </AskFirst>
    <AskFirst
      v-model="discarding"
      danger
      :title="`Discard ${draft.draft.id}?`"
      answer="Discard it"
      :busy="discarded.busy.value"
      @confirmed="discard(draft.draft.id)"
    >
      <p>
        {{ draft.draft.title }}, by {{ draft.draft.authors.map(names.called).join(', ') }}. Whoever has it open is told, and keeps their
        text; for thirty days it can be taken back.
      </p>
    </AskFirst>
  </article>
  <AskFirst
    v-model="goingBack"
    :title="`Go back to revision ${back?.number}?`"
    answer="Put it live now"
    :busy="put.busy.value"
    @confirmed="putLive(String(back!.number))"
  >
    <p>
      {{ back?.title }}, live {{ back ? moment(back['created-at']) : '' }}. It counts at once, for every application, on every node; what
      revision {{ live }} changed is gone.
    </p>
    <label class="plain"
      >Why<ElInput v-model="note" name="note" maxlength="400" autocomplete="off" placeholder="kept with the change"
    /></label>
  </AskFirst>
</template>

<style scoped>
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
li .soft {
  margin-left: 8px;
}
li .el-button--small {
  float: right;
}
.id {
  font-weight: 700;
}
.draft {
  padding-left: 28px;
  background:
    repeating-linear-gradient(45deg, var(--draft) 0 3px, transparent 3px 7px) left / 8px 100% no-repeat,
    var(--sheet);
}
h3 {
  font-size: 14px;
  margin: 14px 0 0;
}
.actions {
  margin: 16px 0 0;
}
summary {
  cursor: pointer;
  min-height: 24px;
}
</style>
