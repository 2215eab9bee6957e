<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { RouterLink, useRoute } from 'vue-router'
import { api } from '../api/calls'
import FailureNote from '../components/FailureNote.vue'
import RehearsalFiles from '../components/RehearsalFiles.vue'
import RehearsalReport from '../components/RehearsalReport.vue'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'
import { moment } from '../support/words'

/** How often a rehearsal that runs is looked at. */
const PAUSE = 700
const route = useRoute()
const draft = useDraft()
const runs = useAsync(api.rehearsals)
const begun = useAsync(api.beginRehearsal)
const stopped = useAsync(api.stopRehearsal)
const found = useAsync(api.rehearsed)
const earlier = useAsync(api.rehearsed)
const chosen = ref<number>()
const parts = [
  { part: '', text: 'Rehearsal and shift' },
  { part: 'guarantees', text: 'Guarantees' },
  { part: 'samples', text: 'Samples and cases' },
]
const shown = computed(() => runs.data.value?.find((run) => run.number === chosen.value) ?? runs.data.value?.[0])
const running = computed(() => runs.data.value?.some((run) => run.state === 'running') ?? false)
const before = computed(() => runs.data.value?.find((run) => shown.value && run.number < shown.value.number && run.of === shown.value.of && run['ended-at']))
let timer: ReturnType<typeof setTimeout> | undefined

async function look() {
  clearTimeout(timer)
  await runs.run()
  if (running.value) timer = setTimeout(look, PAUSE)
}
onMounted(look)
onBeforeUnmount(() => clearTimeout(timer))
watch(() => [shown.value?.number, shown.value?.state] as const, ([number, state]) => {
  found.clear()
  earlier.clear()
  if (!number || (state !== 'held' && state !== 'failed')) return
  void found.run(number)
  if (before.value) void earlier.run(before.value.number)
})

async function begin() {
  if (draft.draft.value && draft.isChanged.value) await draft.save()
  if (!(await begun.run(draft.draft.value?.id))) return
  chosen.value = undefined
  await look()
}

async function stop(number: number) {
  await stopped.run(number)
  await look()
}
</script>

<template>
  <h1>Rehearse</h1>
  <nav class="parts" aria-label="Parts of Rehearse">
    <RouterLink v-for="one in parts" :key="one.part" :to="{ name: 'rehearse', params: { part: one.part } }" :aria-current="(route.params.part ?? '') === one.part ? 'page' : undefined">{{ one.text }}</RouterLink>
  </nav>
  <RehearsalFiles v-if="route.params.part === 'samples'" />
  <template v-else>
    <div class="line">
      <ElButton type="primary" :disabled="running" :loading="begun.busy.value" @click="begin">{{ draft.draft.value ? `Rehearse ${draft.draft.value.id} against live` : 'Rehearse what is live' }}</ElButton>
      <span v-if="!draft.draft.value" class="soft">Open a draft to see who gains and who loses under it.</span>
    </div>
    <FailureNote v-if="runs.error.value ?? begun.error.value ?? stopped.error.value ?? found.error.value" :error="(runs.error.value ?? begun.error.value ?? stopped.error.value ?? found.error.value)!" />
    <p v-if="runs.data.value && !runs.data.value.length">Nothing was rehearsed yet. Write samples, cases and guarantees under Samples and cases, or keep answers from Try.</p>
    <section v-if="shown" class="sheet" aria-labelledby="run">
      <h2 id="run" class="words" :class="{ allowed: shown.state === 'held', denied: shown.state === 'failed' }">{{ shown.words }}</h2>
      <p class="soft">
        Run {{ shown.number }} of {{ shown.of }}, {{ moment(shown['started-at']) }}, by {{ shown.author }}
        <template v-if="shown.progress">: {{ shown.progress[0] }} of {{ shown.progress[1] }} guarantees settled</template>
        <ElButton v-if="shown.state === 'running'" size="small" @click="stop(shown.number)">Stop it</ElButton>
      </p>
      <p v-if="found.busy.value" class="soft">Reading what it found …</p>
      <template v-if="found.data.value">
        <table v-if="route.params.part === 'guarantees'" class="rows">
          <thead><tr><th scope="col">Outcome</th><th scope="col">Guarantee</th><th scope="col">Claim</th></tr></thead>
          <tbody>
            <tr v-for="one in found.data.value.guarantees" :key="one.name">
              <td :class="one.outcome === 'proved' ? 'allowed' : one.outcome === 'undecided' ? 'undetermined' : 'denied'">{{ one.outcome }}</td>
              <td>{{ one.name }}<br /><span class="soft">{{ one.place }}</span></td>
              <td>
                <code>{{ one.claim }}</code><template v-if="one.when"> when <code>{{ one.when }}</code></template>
                <template v-if="one.assume"><br />assumed: <code>{{ one.assume }}</code></template>
                <template v-if="one.why"><br />{{ one.why }}</template>
              </td>
            </tr>
          </tbody>
        </table>
        <RehearsalReport v-else :number="shown.number" :found="found.data.value" :before="earlier.data.value" />
      </template>
    </section>
    <details v-if="(runs.data.value?.length ?? 0) > 1" class="sheet">
      <summary>Earlier runs</summary>
      <ul>
        <li v-for="run in runs.data.value" :key="run.number">
          <button type="button" class="pick" :aria-pressed="run.number === shown?.number" @click="chosen = run.number">{{ run.number }}</button>
          {{ run.of }}, {{ moment(run['started-at']) }}: {{ run.words }}
        </li>
      </ul>
    </details>
  </template>
</template>

<style scoped>
.sheet {
  margin: 12px 0;
}
.words {
  font: 20px/1.4 var(--serif);
}
p {
  margin: 4px 0;
}
ul {
  list-style: none;
  margin: 6px 0 0;
  padding: 0;
}
li {
  padding: 3px 0;
}
code {
  overflow-wrap: anywhere;
}
</style>
