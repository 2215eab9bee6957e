<script setup lang="ts">
import { computed, onMounted } from 'vue'
import { RouterLink, type RouteLocationRaw } from 'vue-router'
import { api } from '../api/calls'
import FailureNote from '../components/FailureNote.vue'
import { useAsync } from '../composables/useAsync'
import { useStatus } from '../composables/useStatus'
import { counted, moment, told } from '../support/words'

const status = useStatus()
const changes = useAsync(() => api.changes(15))
const model = useAsync(() => api.model())
const asked = useAsync(api.asked)
const drafts = useAsync(api.drafts)
const active = useAsync(api.activations)
const rehearsals = useAsync(api.rehearsals)
const waiting = computed(() => {
  const all: { text: string; to: RouteLocationRaw }[] = []
  if (!live.value?.revision && live.value) all.push({ text: 'No charter is live: describe the first application', to: { name: 'describe' } })
  for (const one of drafts.data.value ?? []) all.push({ text: `${one.id}, ${one.title}: to be read and put live`, to: { name: 'rollout', query: { draft: one.id } } })
  const last = rehearsals.data.value?.[0]
  if (last?.state === 'failed') all.push({ text: `Rehearsal of ${last.of}: ${last.words}`, to: { name: 'rehearse' } })
  const unknown = asked.data.value?.unknown.length
  if (unknown) all.push({ text: `${counted(unknown, 'unknown permission')} asked for`, to: { name: 'today', hash: '#unknown' } })
  return all
})
const live = computed(() => status.data.value)
onMounted(() => {
  void status.run()
  void changes.run()
  void model.run()
  void asked.run()
  void drafts.run()
  void active.run()
  void rehearsals.run()
})
</script>

<template>
  <h1>Home</h1>
  <FailureNote v-if="status.error.value" :error="status.error.value" />
  <div class="sheets">
    <section class="sheet" aria-labelledby="waits">
      <h2 id="waits">What waits for you</h2>
      <p v-if="!waiting.length" class="soft">Nothing.</p>
      <ul>
        <li v-for="one in waiting" :key="one.text"><RouterLink :to="one.to">{{ one.text }}</RouterLink></li>
      </ul>
    </section>
    <section class="sheet" aria-labelledby="active">
      <h2 id="active">Standby active now</h2>
      <p v-if="!active.data.value?.items.length" class="soft">Nothing is active.</p>
      <ul>
        <li v-for="{ activation } in active.data.value?.items ?? []" :key="activation.id">
          <RouterLink :to="{ name: 'entity', params: { name: activation.subject } }" class="mono">{{ activation.subject }}</RouterLink>, <code>{{ activation.grant }}</code><template v-if="activation.until">, until {{ moment(activation.until) }}</template>
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
            <RouterLink :to="{ name: 'try', query: { subject: one.last.subject, permission: one.last.permission, resource: one.last.resource ?? '' } }">{{ one.last.subject }} {{ one.last.permission }} {{ one.last.resource }}</RouterLink>,
            <span :class="one.last.allowed ? 'allowed' : 'denied'">{{ one.last.allowed ? 'allowed' : 'denied' }}</span
            ><span class="soft">, {{ moment(one.last.at) }}</span>
          </template>
          <RouterLink v-else class="soft" :to="{ name: 'connect' }">has not asked yet; give it a key</RouterLink>
        </li>
      </ul>
    </section>
  </div>
  <section v-if="asked.data.value?.unknown.length" class="sheet unknown" aria-labelledby="unknown">
    <h2 id="unknown">Unknown questions</h2>
    <p class="soft">Asked of this node since it started, and denied: the charter does not declare them.</p>
    <table class="rows">
      <thead><tr><th scope="col">Asked for</th><th scope="col">By</th><th scope="col">Times</th><th scope="col">Last</th><th scope="col">Nearest there is</th></tr></thead>
      <tbody>
        <tr v-for="one in asked.data.value.unknown" :key="one.application + one.permission">
          <td><code>{{ one.permission }}</code></td><td>{{ one.application }}</td><td class="number">{{ one.count }}</td><td>{{ moment(one.last) }}</td><td><code v-if="one.nearest">{{ one.nearest }}</code></td>
        </tr>
      </tbody>
    </table>
  </section>
  <div v-if="live" class="sheets">
    <section class="sheet" aria-labelledby="live">
      <h2 id="live">Live</h2>
      <template v-if="live.revision">
        <p class="large">{{ live.charter }}, revision {{ live.revision.number }}</p>
        <p>{{ live.revision.title }}</p>
        <p class="soft">since {{ moment(live.revision['created-at']) }}, by {{ live.revision.author }}</p>
        <p class="soft">digest <code :title="live.revision.digest">{{ live.revision.digest.slice(0, 16) }}…</code></p>
      </template>
      <p v-else>No charter is live. Start the service with <code>--charter DIR</code>.</p>
    </section>
    <section class="sheet" aria-labelledby="register">
      <h2 id="register">Register</h2>
      <template v-if="live.entities != null && live.grants != null">
        <p class="large">{{ counted(live.entities, 'entity', 'entities') }}</p>
        <p>{{ counted(live.grants, 'grant') }}</p>
      </template>
      <p class="soft">at position {{ live.position }}; the database {{ live.database ? 'answers' : 'does not answer' }}</p>
    </section>
    <section v-if="model.data.value" class="sheet" aria-labelledby="charter">
      <h2 id="charter">Charter</h2>
      <p class="large">{{ counted(model.data.value.roles.length, 'role') }}</p>
      <ul>
        <li v-for="application in model.data.value.applications" :key="application.key">
          {{ application.name }}:
          <template v-for="(type, at) in model.data.value.types.filter((type) => type.application === application.key)" :key="type.key"
            ><template v-if="at">, </template><RouterLink :to="{ name: 'roles', params: { type: type.key } }">{{ type.key }}</RouterLink></template
          >
        </li>
      </ul>
    </section>
  </div>
  <section class="sheet changes" aria-labelledby="changes">
    <h2 id="changes">Last changes</h2>
    <FailureNote v-if="changes.error.value" :error="changes.error.value" />
    <p v-else-if="!changes.data.value" class="soft">Reading the changes …</p>
    <p v-else-if="!changes.data.value.items.length">Nothing has changed yet. Load a register, or give somebody a role.</p>
    <table v-else class="rows">
      <thead>
        <tr><th scope="col">Position</th><th scope="col">When</th><th scope="col">By</th><th scope="col">What</th></tr>
      </thead>
      <tbody>
        <tr v-for="change in changes.data.value.items" :key="change.position">
          <td class="number">{{ change.position }}</td>
          <td>{{ moment(change.at) }}</td>
          <td>{{ change.actor }}</td>
          <td>{{ told(change) }}</td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
.sheets {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(260px, 1fr));
  gap: 16px;
  margin: 16px 0;
}
p {
  margin: 4px 0 0;
}
.unknown {
  margin-bottom: 16px;
}
.large {
  font: 20px/1.3 var(--serif);
}
ul {
  margin: 4px 0 0;
  padding-left: 18px;
}
.number {
  font-variant-numeric: tabular-nums;
}
</style>
