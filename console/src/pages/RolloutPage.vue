<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, onMounted, ref, watch } from 'vue'
import { RouterLink, useRoute } from 'vue-router'
import { api } from '../api/calls'
import FailureNote from '../components/FailureNote.vue'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'
import { useStatus } from '../composables/useStatus'
import { counted, moment } from '../support/words'
import { texts } from '../texts/en'

const route = useRoute()
const status = useStatus()
const own = useDraft()
const revisions = useAsync(api.revisions)
const drafts = useAsync(api.drafts)
const opened = useAsync(api.draft)
const put = useAsync(api.rollOut)
const discarded = useAsync(api.discard)
const note = ref('')
const accepted = ref(false)
const confirming = ref<string>()
const live = computed(() => status.data.value?.revision?.number)
const draft = computed(() => opened.data.value)
const errors = computed(() => draft.value?.standing.findings.filter((finding) => finding.severity === 'error').length ?? 0)
const isReady = computed(
  () => draft.value && !errors.value && draft.value.standing.fits && (accepted.value || !draft.value.standing.unfit.length),
)

async function look() {
  await Promise.all([status.run(), revisions.run(), drafts.run()])
}

onMounted(() => {
  void look()
  if (typeof route.query.draft === 'string') open(route.query.draft)
})
// The draft that is being written here, once it is there, and anew when it is saved.
watch(() => own.draft.value?.digest, (digest) => {
  const id = own.draft.value?.id
  if (digest && id && (!draft.value || draft.value.draft.id === id) && !route.query.draft) open(id)
}, { immediate: true })

function open(id: string) {
  accepted.value = false
  confirming.value = undefined
  void opened.run(id)
}

/** What changes what is live is asked for twice, in the same place. */
async function putLive(what: string) {
  if (confirming.value !== what) {
    confirming.value = what
    return
  }
  confirming.value = undefined
  if (await put.run(what, note.value.trim(), accepted.value)) {
    note.value = ''
    if (own.draft.value?.id === what) own.leave()
    opened.clear()
    await look()
  }
}

async function discard(id: string) {
  if (await discarded.run(id)) {
    if (own.draft.value?.id === id) own.leave()
    opened.clear()
    await look()
  }
}
</script>

<template>
  <h1>Roll out</h1>
  <FailureNote v-if="put.error.value" :error="put.error.value" />
  <FailureNote v-if="discarded.error.value" :error="discarded.error.value" />
  <p v-if="put.data.value" role="status">Revision {{ put.data.value.number }} is live: {{ put.data.value.title }}</p>
  <div class="columns">
    <section class="sheet" aria-labelledby="drafts">
      <h2 id="drafts">Drafts</h2>
      <FailureNote v-if="drafts.error.value" :error="drafts.error.value" />
      <p v-else-if="!drafts.data.value" class="soft">Reading the drafts …</p>
      <p v-else-if="!drafts.data.value.length">
        No draft is under way. <RouterLink :to="{ name: 'describe' }">Begin one</RouterLink>, or save a charter as one: <code>ostrog draft save DIR --title …</code>
      </p>
      <ul v-else>
        <li v-for="one in drafts.data.value" :key="one.id">
          <button type="button" class="link" :aria-expanded="draft?.draft.id === one.id" @click="open(one.id)">{{ one.id }}</button>
          {{ one.title }}
          <span class="soft">from {{ one.base === null ? 'nothing' : `revision ${one.base}` }}, saved {{ moment(one['saved-at']) }}</span>
        </li>
      </ul>
    </section>
    <section class="sheet plain" aria-labelledby="revisions">
      <h2 id="revisions">Revisions</h2>
      <FailureNote v-if="revisions.error.value" :error="revisions.error.value" />
      <p v-else-if="!revisions.data.value" class="soft">Reading the revisions …</p>
      <ul v-else>
        <li v-for="revision in revisions.data.value" :key="revision.number">
          <strong v-if="revision.number === live">{{ revision.number }}, live</strong>
          <template v-else>{{ revision.number }}</template>
          {{ revision.title }}
          <span class="soft">{{ moment(revision['created-at']) }}, by {{ revision.author }}</span>
          <ElButton v-if="revision.number !== live" size="small" @click="putLive(String(revision.number))">{{
            confirming === String(revision.number) ? 'Put it live now' : 'Go back to it'
          }}</ElButton>
        </li>
      </ul>
      <label>Why<input v-model="note" name="note" maxlength="400" autocomplete="off" placeholder="kept with the change" /></label>
    </section>
  </div>

  <FailureNote v-if="opened.error.value" :error="opened.error.value" />
  <article v-if="draft" class="sheet draft plain" aria-labelledby="opened">
    <h2 id="opened">{{ draft.draft.id }}: {{ draft.draft.title }}</h2>
    <p v-if="own.isChanged.value && own.draft.value?.id === draft.draft.id" role="alert" class="undetermined">
      What is not saved yet is not in it. <ElButton size="small" :loading="own.busy.value" @click="own.save">Save it</ElButton>
    </p>
    <p v-if="!draft.standing.fits" class="failure" role="alert">
      Another revision went live since it was begun. Bring that into it, and save it with <code>ostrog draft save DIR --draft {{ draft.draft.id }} --onto-live</code>.
    </p>
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
      <table v-else class="rows">
        <thead>
          <tr><th scope="col">May be done</th><th scope="col">What</th><th scope="col">How</th></tr>
        </thead>
        <tbody>
          <tr v-for="change in draft.standing.changes" :key="change.about + change.key + change.words">
            <td :class="change.effect">{{ texts.effects[change.effect] }}</td>
            <td>{{ change.about }} <code>{{ change.key }}</code></td>
            <td>{{ change.words }}</td>
          </tr>
        </tbody>
      </table>
    </section>
    <section v-if="draft.standing.unfit.length">
      <h3>Facts that it does not permit</h3>
      <ul>
        <li v-for="fact in draft.standing.unfit" :key="fact">{{ fact }}</li>
      </ul>
      <label class="check"><input v-model="accepted" type="checkbox" name="accepted" />They may give nothing</label>
    </section>
    <p class="actions">
      <ElButton type="primary" :disabled="!isReady" :loading="put.busy.value" @click="putLive(draft.draft.id)">{{
        confirming === draft.draft.id ? 'Put it live now, for all' : 'Put live'
      }}</ElButton>
      <ElButton v-if="own.draft.value?.id !== draft.draft.id" @click="own.open(draft.draft.id)">Go on writing it</ElButton>
      <ElButton @click="discard(draft.draft.id)">Discard</ElButton>
    </p>
  </article>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(340px, 1fr));
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
li .el-button {
  float: right;
}
.link {
  font: inherit;
  font-weight: 700;
  color: inherit;
  background: none;
  border: 0;
  padding: 0 4px 0 0;
  min-height: 24px;
  text-decoration: underline;
  text-underline-offset: 3px;
  cursor: pointer;
}
.draft {
  padding-left: 28px;
  background: repeating-linear-gradient(45deg, var(--draft) 0 3px, transparent 3px 7px) left / 8px 100% no-repeat, var(--sheet);
}
h3 {
  font-size: 14px;
  margin: 14px 0 0;
}
.wider {
  color: var(--undetermined);
}
.narrower {
  color: var(--denied);
}
.failure {
  border-left: 3px solid var(--denied);
  background: var(--denied-ground);
  padding: 8px 14px;
}
.actions {
  margin: 16px 0 0;
}
</style>
