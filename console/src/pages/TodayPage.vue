<script setup lang="ts">
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { RouterLink, type RouteLocationRaw } from 'vue-router'
import { api } from '../api/calls'
import type { AskedLately } from '../api/types'
import FailureNote from '../components/FailureNote.vue'
import { useAsync } from '../composables/useAsync'
import { useCharter } from '../composables/useCharter'
import { useKeyNames } from '../composables/useKeyNames'
import { useStatus } from '../composables/useStatus'
import { counted, moment, told } from '../support/words'

const BarChart = defineAsyncComponent(() => import('../components/BarChart.vue'))
const FirstMinutes = defineAsyncComponent(() => import('../components/FirstMinutes.vue'))
const status = useStatus()
const names = useKeyNames()
const { model } = useCharter()
const changes = useAsync(() => api.changes(15))
const asked = useAsync(api.asked)
const drafts = useAsync(api.waiting)
const own = useAsync(api.drafts)
const active = useAsync(api.activations)
const rehearsals = useAsync(api.rehearsals)
const live = computed(() => status.data.value)
/** Once begun, the first steps go on though something is live. */
const isBegun = ref(false)
/** What could not be read is said, not taken for nothing. */
const unread = computed(() => [drafts, asked, rehearsals].flatMap((call) => call.error.value ?? []))
const reading = computed(() => !status.data.value || [drafts, asked, rehearsals].some((call) => !call.data.value && !call.error.value))
const waiting = computed(() => {
  const all: { text: string; to: RouteLocationRaw }[] = []
  if (!live.value?.revision && live.value)
    all.push({ text: 'No charter is live: describe the first application', to: { name: 'describe' } })
  // What is somebody else's to approve, or cannot be yet, does not wait for the reader.
  for (const one of drafts.data.value?.filter((one) => !one['not-yet']) ?? []) {
    const to = one.id.startsWith('D-')
      ? { name: 'review', params: { id: one.id } }
      : { name: one.id.startsWith('S-') ? 'setup' : 'rollout' }
    all.push({ text: `${one.id}, ${one.title}, by ${one.by}: to be approved`, to })
  }
  for (const one of live.value && !drafts.data.value?.some((one) => one.needed) ? (own.data.value ?? []) : [])
    all.push({ text: `${one.id}, ${one.title}: to be read and put live`, to: { name: 'review', params: { id: one.id } } })
  // Of each text the last run counts.
  const last = new Map([...(rehearsals.data.value ?? [])].reverse().map((run) => [run.of, run]))
  for (const run of last.values())
    if (run.state === 'failed') all.push({ text: `Rehearsal of ${run.of}: ${run.words}`, to: { name: 'rehearse' } })
  const unknown = asked.data.value?.unknown.length
  if (unknown) all.push({ text: `${counted(unknown, 'unknown permission')} asked for`, to: { name: 'today', hash: '#unknown' } })
  return all
})
/** Those that asked anything in the last hour. */
const asking = computed(() =>
  (asked.data.value?.applications ?? []).filter((one) => one.minutes.some((minute) => minute.allowed + minute.denied > 0)),
)
/** Decisions by minute, the last half hour, oldest first. */
const minutes = computed(() => {
  const applications = asking.value
  const now = Date.now()
  return Array.from({ length: 30 }, (_, n) => 29 - n).map((back) => ({
    name: new Date(now - back * 60_000).toLocaleTimeString(undefined, { hour: '2-digit', minute: '2-digit' }),
    values: applications.flatMap((one) => [one.minutes[back]?.allowed ?? 0, one.minutes[back]?.denied ?? 0]),
  }))
})
const series = computed(() => asking.value.flatMap((one) => [`${one.name}, allowed`, `${one.name}, denied`]))
const isQuiet = computed(() => minutes.value.every((row) => row.values.every((value) => !value)))
type Unknown = AskedLately['unknown'][number]

watch(
  () => status.data.value?.position,
  () => {
    void changes.run()
    void asked.run()
    void drafts.run()
    void own.run()
    void active.run()
    void rehearsals.run()
  },
  { immediate: true },
)
</script>

<template>
  <h1>Home</h1>
  <FailureNote v-if="status.error.value" :error="status.error.value" />
  <FirstMinutes v-if="isBegun || (live && !live.revision)" @begun="isBegun = true" />
  <div v-if="!live || live.revision" class="sheets">
    <section class="sheet" aria-labelledby="waits">
      <h2 id="waits">What waits for you</h2>
      <ul>
        <li v-for="one in waiting" :key="one.text">
          <RouterLink :to="one.to">{{ one.text }}</RouterLink>
        </li>
      </ul>
      <p v-if="unread.length" class="soft">What else waits is not known: {{ unread[0]!.message }}</p>
      <p v-else-if="reading" class="soft">Reading …</p>
      <p v-else-if="!waiting.length" class="soft">Nothing.</p>
    </section>
    <section class="sheet" aria-labelledby="active">
      <h2 id="active">Standby active now</h2>
      <p v-if="active.error.value" class="soft">Not known: {{ active.error.value.message }}</p>
      <p v-else-if="!active.data.value" class="soft">Reading …</p>
      <p v-else-if="!active.data.value.items.length" class="soft">Nothing is active.</p>
      <ul>
        <li v-for="{ activation } in active.data.value?.items ?? []" :key="activation.id">
          <RouterLink :to="{ name: 'entity', params: { name: activation.subject } }" class="mono">{{ activation.subject }}</RouterLink>,
          <code>{{ activation.grant }}</code><template v-if="activation.until">, until {{ moment(activation.until) }}</template>
          <span v-if="activation.reason" class="soft">: {{ activation.reason }}</span>
        </li>
      </ul>
    </section>
    <section class="sheet" aria-labelledby="asked">
      <h2 id="asked">Applications and their last question</h2>
      <FailureNote v-if="asked.error.value" :error="asked.error.value" />
      <ul>
        <li v-for="one in asked.data.value?.applications ?? []" :key="one.application">
          <strong>{{ one.name }}</strong>:
          <template v-if="one.last">
            <RouterLink
              :to="{
                name: 'try',
                query: { subject: one.last.subject, permission: one.last.permission, resource: one.last.resource ?? '' },
              }"
              >{{ one.last.subject }} {{ one.last.permission }} {{ one.last.resource }}</RouterLink
            >, <span :class="one.last.allowed ? 'allowed' : 'denied'">{{ one.last.allowed ? 'allowed' : 'denied' }}</span><span class="soft"
              >, {{ moment(one.last.at) }}</span
            >
          </template>
          <RouterLink v-else class="soft" :to="{ name: 'connect' }">has not asked yet; give it a key</RouterLink>
        </li>
      </ul>
    </section>
  </div>
  <section v-if="asked.data.value" class="sheet below" aria-labelledby="decisions">
    <h2 id="decisions">Decisions a minute</h2>
    <p v-if="isQuiet" class="soft">No application asked this node anything in the last half hour.</p>
    <BarChart v-else title="Decisions of this node by minute and application, allowed and denied" :series="series" :rows="minutes" lines />
  </section>
  <section v-if="asked.data.value?.unknown.length" id="unknown" class="sheet below" aria-labelledby="unknown-title">
    <h2 id="unknown-title">Unknown questions</h2>
    <p class="soft">Asked of this node since it started, and denied: the charter does not declare them.</p>
    <ElTable :data="asked.data.value.unknown" :row-key="(row: Unknown) => row.application + row.permission">
      <ElTableColumn label="Asked for" prop="permission" sortable min-width="180">
        <template #default="{ row }: { row: Unknown }"
          ><code>{{ row.permission }}</code></template
        >
      </ElTableColumn>
      <ElTableColumn label="By" prop="application" sortable min-width="120" />
      <ElTableColumn label="Times" prop="count" sortable width="110" align="right" />
      <ElTableColumn label="Last" prop="last" sortable min-width="170">
        <template #default="{ row }: { row: Unknown }">{{ moment(row.last) }}</template>
      </ElTableColumn>
      <ElTableColumn label="Nearest there is" prop="nearest" min-width="160">
        <template #default="{ row }: { row: Unknown }"
          ><code v-if="row.nearest">{{ row.nearest }}</code></template
        >
      </ElTableColumn>
    </ElTable>
  </section>
  <div v-if="live" class="sheets">
    <section class="sheet" aria-labelledby="live">
      <h2 id="live">Live</h2>
      <template v-if="live.revision">
        <p class="large">{{ live.charter }}, revision {{ live.revision.number }}</p>
        <p>{{ live.revision.title }}</p>
        <p class="soft">since {{ moment(live.revision['created-at']) }}, by {{ names.called(live.revision.author) }}</p>
        <p class="soft">
          digest <code :title="live.revision.digest">{{ live.revision.digest.slice(0, 16) }}…</code>
        </p>
      </template>
      <p v-else>
        No charter is live. <RouterLink :to="{ name: 'describe' }">Describe the first application</RouterLink>, or start the service with
        <code>--charter DIR</code>.
      </p>
    </section>
    <section class="sheet" aria-labelledby="register">
      <h2 id="register">Register</h2>
      <template v-if="live.entities != null && live.grants != null">
        <p class="large">{{ counted(live.entities, 'entity', 'entities') }}</p>
        <p>{{ counted(live.grants, 'grant') }}</p>
      </template>
      <p class="soft">at position {{ live.position }}; the database {{ live.database ? 'answers' : 'does not answer' }}</p>
    </section>
    <section v-if="model" class="sheet" aria-labelledby="charter">
      <h2 id="charter">Charter</h2>
      <p class="large">{{ counted(model.roles.length, 'role') }}</p>
      <ul>
        <li v-for="application in model.applications" :key="application.key">
          {{ application.name }}:
          <template v-for="(type, at) in model.types.filter((type) => type.application === application.key)" :key="type.key"
            ><template v-if="at">, </template
            ><RouterLink :to="{ name: 'roles', params: { type: type.key } }">{{ type.key }}</RouterLink></template
          >
        </li>
      </ul>
    </section>
  </div>
  <section class="sheet below" aria-labelledby="changes">
    <h2 id="changes">Last changes</h2>
    <FailureNote v-if="changes.error.value" :error="changes.error.value" />
    <ElSkeleton v-else-if="!changes.data.value" :rows="4" animated />
    <p v-else-if="!changes.data.value.items.length">Nothing has changed yet. Load a register, or give somebody a role.</p>
    <ElTimeline v-else>
      <ElTimelineItem
        v-for="change in changes.data.value.items"
        :key="change.position"
        :timestamp="`${change.position}, ${moment(change.at)}, by ${names.called(change.actor)}`"
        placement="bottom"
        hollow
        >{{ told(change) }}</ElTimelineItem
      >
    </ElTimeline>
  </section>
</template>

<style scoped>
.sheets {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(260px, 100%), 1fr));
  gap: 16px;
  margin: 16px 0;
}
p {
  margin: 4px 0 0;
}
.below {
  margin-bottom: 16px;
}
.large {
  font: 20px/1.3 var(--serif);
}
ul {
  margin: 4px 0 0;
  padding-left: 18px;
}
.below :deep(.el-timeline) {
  padding: 12px 0 0;
}
</style>
