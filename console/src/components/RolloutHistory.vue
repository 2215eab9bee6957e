<script setup lang="ts">
import { computed, defineAsyncComponent } from 'vue'
import type { AskedLately, Step } from '../api/types'
import { moment } from '../support/words'

/** What was live, newest first, and what each rollout of the last hour changed in decisions a minute. */
const BarChart = defineAsyncComponent(() => import('./BarChart.vue'))
const props = defineProps<{ steps: Step[]; asked?: AskedLately }>()
const MINUTES = 60
const minutesOf = (application: string) => props.asked?.applications.find((one) => one.application === application)?.minutes ?? []
/** How many minutes ago, if the minutes reach that far. */
const ago = (step: Step) => Math.floor((Date.now() - Date.parse(step.at)) / 60_000)
function mean(minutes: { allowed: number; denied: number }[]) {
  const all = minutes.length || 1
  const sum = (of: 'allowed' | 'denied') => minutes.reduce((total, minute) => total + minute[of], 0) / all
  return `${sum('allowed').toFixed(1)} allowed, ${sum('denied').toFixed(1)} denied`
}
/** Of a rollout within the hour: a minute's decisions before it and after it. */
function around(step: Step) {
  const at = ago(step)
  const minutes = minutesOf(step.application)
  if (at >= MINUTES || at < 1 || !minutes.some((minute) => minute.allowed + minute.denied)) return ''
  return `${mean(minutes.slice(at + 1))} a minute before; ${mean(minutes.slice(0, at))} after`
}
const applications = computed(() => [...new Set(props.steps.filter((step) => ago(step) < MINUTES).map((step) => step.application))])
const charts = computed(() =>
  applications.value
    .map((application) => ({
      application,
      rows: Array.from({ length: MINUTES }, (_, n) => MINUTES - 1 - n).map((back) => {
        const minute = minutesOf(application)[back]
        const here = props.steps.find((step) => step.application === application && ago(step) === back)
        const time = new Date(Date.now() - back * 60_000).toLocaleTimeString(undefined, { hour: '2-digit', minute: '2-digit' })
        return {
          name: here ? `${time} revision ${here.revision ?? 'none'}` : time,
          values: [minute?.allowed ?? 0, minute?.denied ?? 0],
        }
      }),
    }))
    .filter((chart) => chart.rows.some((row) => row.values.some(Boolean))),
)
const what = (step: Step) =>
  step.revision == null
    ? 'not part of what is live any more'
    : step.back
      ? `back to revision ${step.revision}`
      : `revision ${step.revision}`
</script>

<template>
  <BarChart
    v-for="chart in charts"
    :key="chart.application"
    :title="`${chart.application}: decisions of this node by minute, revisions marked`"
    :series="['allowed', 'denied']"
    :rows="chart.rows"
    lines
  />
  <ElTable :data="steps" :row-key="(row: Step) => `${row.position}${row.application}`" max-height="420">
    <ElTableColumn label="When" prop="at" sortable min-width="160">
      <template #default="{ row }: { row: Step }">{{ moment(row.at) }}</template>
    </ElTableColumn>
    <ElTableColumn label="Application" prop="application" sortable min-width="110" />
    <ElTableColumn label="What" min-width="170">
      <template #default="{ row }: { row: Step }"
        >{{ what(row) }}<span v-if="row.before" class="soft">, was {{ row.before }}</span></template
      >
    </ElTableColumn>
    <ElTableColumn label="By" prop="actor" sortable min-width="120" />
    <ElTableColumn label="Why, and what it moved" min-width="260">
      <template #default="{ row }: { row: Step }"
        >{{ row.note }}<br v-if="row.note" /><span class="soft">{{ [row.shift, around(row)].filter(Boolean).join('; ') }}</span></template
      >
    </ElTableColumn>
  </ElTable>
</template>
