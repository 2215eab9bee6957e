<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api } from '../api/calls'
import FailureNote from '../components/FailureNote.vue'
import RehearsalFiles from '../components/RehearsalFiles.vue'
import RehearsalReport from '../components/RehearsalReport.vue'
import { useAsync } from '../composables/useAsync'
import { useKeyNames } from '../composables/useKeyNames'
import { useDraft } from '../composables/useDraft'
import type { Rehearsed } from '../support/rehearsed'
import { moment } from '../support/words'
import PartTabs from '../components/PartTabs.vue'

/** How often a rehearsal that runs is looked at. */
const PAUSE = 700
const route = useRoute()
const draft = useDraft()
const names = useKeyNames()
const runs = useAsync(api.rehearsals)
const begun = useAsync(api.beginRehearsal)
const stopped = useAsync(api.stopRehearsal)
const found = useAsync(api.rehearsed)
const earlier = useAsync(api.rehearsed)
const chosen = ref<number>()
type Settled = Rehearsed['guarantees'][number]
const parts = [
  { part: '', text: 'Rehearsal and shift' },
  { part: 'guarantees', text: 'Guarantees' },
  { part: 'samples', text: 'Samples and cases' },
]
const shown = computed(() => runs.data.value?.find((run) => run.number === chosen.value) ?? runs.data.value?.[0])
const running = computed(() => runs.data.value?.some((run) => run.state === 'running') ?? false)
const before = computed(() =>
  runs.data.value?.find((run) => shown.value && run.number < shown.value.number && run.of === shown.value.of && run['ended-at']),
)
let timer: ReturnType<typeof setTimeout> | undefined

async function look() {
  clearTimeout(timer)
  await runs.run()
  if (running.value) timer = setTimeout(look, PAUSE)
}
onMounted(look)
onBeforeUnmount(() => clearTimeout(timer))
watch(
  () => [shown.value?.number, shown.value?.state] as const,
  ([number, state]) => {
    found.clear()
    earlier.clear()
    if (!number || (state !== 'held' && state !== 'failed')) return
    void found.run(number)
    if (before.value) void earlier.run(before.value.number)
  },
)

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
  <PartTabs area="rehearse" label="Parts of Rehearse" :parts="parts" />
  <RehearsalFiles v-if="route.params.part === 'samples'" />
  <template v-else>
    <div class="line">
      <ElButton type="primary" :disabled="running" :loading="begun.busy.value" @click="begin">{{
        draft.draft.value ? `Rehearse ${draft.draft.value.id} against live` : 'Rehearse what is live'
      }}</ElButton>
      <span v-if="!draft.draft.value" class="soft">Open a draft to see who gains and who loses under it.</span>
    </div>
    <FailureNote
      v-if="runs.error.value ?? begun.error.value ?? stopped.error.value ?? found.error.value"
      :error="(runs.error.value ?? begun.error.value ?? stopped.error.value ?? found.error.value)!"
    />
    <p v-if="runs.data.value && !runs.data.value.length">
      Nothing was rehearsed yet. Write samples, cases and guarantees under Samples and cases, or keep answers from Try.
    </p>
    <section v-if="shown" class="sheet" aria-labelledby="run">
      <div role="status">
        <h2 id="run" class="words" :class="{ allowed: shown.state === 'held', denied: shown.state === 'failed' }">
          {{ shown.words }}
        </h2>
      </div>
      <p class="soft">
        Run {{ shown.number }} of {{ shown.of }}, {{ moment(shown['started-at']) }}, by {{ names.called(shown.author) }}
        <ElButton v-if="shown.state === 'running'" size="small" @click="stop(shown.number)">Stop it</ElButton>
      </p>
      <ElProgress
        v-if="shown.state === 'running' && shown.progress"
        :percentage="Math.floor((100 * shown.progress[0]) / Math.max(shown.progress[1], 1))"
        :aria-label="`Run ${shown.number}`"
      />
      <p v-if="found.busy.value" class="soft">Reading what it found …</p>
      <template v-if="found.data.value">
        <ElTable v-if="route.params.part === 'guarantees'" :data="found.data.value.guarantees" row-key="name">
          <ElTableColumn label="Outcome" prop="outcome" sortable width="130">
            <template #default="{ row }: { row: Settled }"
              ><span :class="row.outcome === 'proved' ? 'allowed' : row.outcome === 'undecided' ? 'undetermined' : 'denied'">{{
                row.outcome
              }}</span></template
            >
          </ElTableColumn>
          <ElTableColumn label="Guarantee" prop="name" sortable min-width="220"
            ><template #default="{ row }: { row: Settled }"
              >{{ row.name }}<br /><span class="soft">{{ row.place }}</span></template
            ></ElTableColumn
          >
          <ElTableColumn label="Claim" min-width="320">
            <template #default="{ row }: { row: Settled }">
              <code>{{ row.claim }}</code><template v-if="row.when">
                when <code>{{ row.when }}</code></template
              >
              <template v-if="row.assume"
                ><br />assumed: <code>{{ row.assume }}</code></template
              >
              <template v-if="row.why"><br />{{ row.why }}</template>
            </template>
          </ElTableColumn>
        </ElTable>
        <RehearsalReport v-else :number="shown.number" :found="found.data.value" :before="earlier.data.value" />
      </template>
    </section>
    <details v-if="(runs.data.value?.length ?? 0) > 1" class="sheet">
      <summary>Earlier runs</summary>
      <ul>
        <li v-for="run in runs.data.value" :key="run.number">
          <ElButton text class="pick" :aria-pressed="run.number === shown?.number" @click="chosen = run.number">{{ run.number }}</ElButton>
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
