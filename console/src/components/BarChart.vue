<script setup lang="ts">
import { BarChart as Bars, LineChart } from 'echarts/charts'
import { AriaComponent, GridComponent, LegendComponent, TooltipComponent } from 'echarts/components'
import { use } from 'echarts/core'
import { SVGRenderer } from 'echarts/renderers'
import { computed } from 'vue'
import VChart from 'vue-echarts'
import { colourOf } from '../support/colours'

/** Numbers as bars or lines, and the same as a table: nothing is told by colour alone. */
interface Row {
  name: string
  values: number[]
}
const props = defineProps<{ title: string; series: string[]; rows: Row[]; lines?: boolean }>()
use([Bars, LineChart, AriaComponent, GridComponent, LegendComponent, TooltipComponent, SVGRenderer])
const option = computed(() => {
  const soft = colourOf('--soft')
  const colours = ['--allowed', '--denied', '--undetermined', '--draft'].map(colourOf)
  return {
    aria: { enabled: true, decal: { show: true } },
    animation: false,
    color: colours,
    textStyle: { fontFamily: 'Atkinson Hyperlegible, sans-serif', color: soft },
    grid: { left: 8, right: 8, top: 30, bottom: 4, containLabel: true },
    legend: { top: 0, left: 0, textStyle: { color: soft } },
    tooltip: { trigger: 'axis' },
    xAxis: { type: 'category', data: props.rows.map((row) => row.name), axisLabel: { color: soft } },
    yAxis: { type: 'value', minInterval: 1, axisLabel: { color: soft }, splitLine: { lineStyle: { color: colourOf('--rule') } } },
    series: props.series.map((name, at) => ({
      name,
      type: props.lines ? 'line' : 'bar',
      barMaxWidth: 28,
      showSymbol: false,
      data: props.rows.map((row) => row.values[at] ?? 0),
    })),
  }
})
</script>

<template>
  <figure class="chart">
    <figcaption class="soft">{{ title }}</figcaption>
    <VChart :option="option" autoresize class="drawn" :aria-label="title" role="img" />
    <details>
      <summary>The same as a table</summary>
      <ElTable :data="rows" size="small">
        <ElTableColumn label="" prop="name" />
        <ElTableColumn v-for="(name, at) in series" :key="name" :label="name">
          <template #default="{ row }: { row: Row }">{{ (row.values[at] ?? 0).toLocaleString('en') }}</template>
        </ElTableColumn>
      </ElTable>
    </details>
  </figure>
</template>

<style scoped>
.chart {
  margin: 8px 0;
}
.drawn {
  height: 200px;
  width: 100%;
}
summary {
  cursor: pointer;
  min-height: 24px;
}
</style>
