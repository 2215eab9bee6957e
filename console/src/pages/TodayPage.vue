<script setup lang="ts">
import { computed, onMounted } from 'vue'
import { RouterLink } from 'vue-router'
import { api } from '../api/calls'
import FailureNote from '../components/FailureNote.vue'
import { useAsync } from '../composables/useAsync'
import { useStatus } from '../composables/useStatus'
import { counted, moment, told } from '../support/words'

const status = useStatus()
const changes = useAsync(() => api.changes(15))
const model = useAsync(api.model)
const live = computed(() => status.data.value)
onMounted(() => {
  void status.run()
  void changes.run()
  void model.run()
})
</script>

<template>
  <h1>Today</h1>
  <FailureNote v-if="status.error.value" :error="status.error.value" />
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
      <p class="large">{{ counted(live.entities, 'entity', 'entities') }}</p>
      <p>{{ counted(live.grants, 'grant') }}</p>
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
    <p v-else-if="!changes.data.value.length">Nothing has changed yet. Load a register, or give somebody a role.</p>
    <table v-else class="rows">
      <thead>
        <tr><th scope="col">Position</th><th scope="col">When</th><th scope="col">By</th><th scope="col">What</th></tr>
      </thead>
      <tbody>
        <tr v-for="change in changes.data.value" :key="change.position">
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
