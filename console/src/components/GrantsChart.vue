<script setup lang="ts">
import { BarChart as Bars } from 'echarts/charts'
import { AriaComponent, GridComponent, MarkLineComponent, TooltipComponent } from 'echarts/components'
import { use } from 'echarts/core'
import { SVGRenderer } from 'echarts/renderers'
import { computed } from 'vue'
import VChart from 'vue-echarts'
import type { Holding } from '../api/types'
import { colourOf } from '../support/colours'
import { moment } from '../support/words'

/** Grants on one line of time: when each begins and ends, and where now is. The table above holds the numbers. */
const props = defineProps<{ items: Holding[] }>()
use([Bars, AriaComponent, GridComponent, MarkLineComponent, TooltipComponent, SVGRenderer])
const DAY = 86_400_000
const rows = computed(() => {
  const bounded = props.items.filter((one) => one.grant.until || one.grant.from)
  const now = Date.now()
  return bounded.slice(0, 40).map(({ grant }) => {
    const from = grant.from ? Date.parse(grant.from) : now - 30 * DAY
    const until = grant.until ? Date.parse(grant.until) : Math.max(now, from) + 90 * DAY
    return {
      name: `${grant.role} of ${grant.to}`,
      from,
      until,
      words: `${grant.from ? moment(grant.from) : 'long since'} to ${grant.until ? moment(grant.until) : 'no end'}`,
    }
  })
})
const option = computed(() => {
  const soft = colourOf('--soft')
  return {
    aria: { enabled: true },
    animation: false,
    grid: { left: 8, right: 24, top: 8, bottom: 4, containLabel: true },
    tooltip: { formatter: (at: { dataIndex: number }) => `${rows.value[at.dataIndex]!.name}: ${rows.value[at.dataIndex]!.words}` },
    xAxis: { type: 'time', axisLabel: { color: soft } },
    yAxis: {
      type: 'category',
      inverse: true,
      data: rows.value.map((row) => row.name),
      axisLabel: { color: soft, width: 220, overflow: 'truncate' },
    },
    series: [
      { type: 'bar', stack: 'time', silent: true, itemStyle: { color: 'transparent' }, data: rows.value.map((row) => row.from) },
      {
        type: 'bar',
        stack: 'time',
        barMaxWidth: 14,
        itemStyle: { color: colourOf('--allowed') },
        data: rows.value.map((row) => row.until - row.from),
        markLine: {
          symbol: 'none',
          label: { formatter: 'now', color: soft },
          lineStyle: { color: colourOf('--denied') },
          data: [{ xAxis: Date.now() }],
        },
      },
    ],
  }
})
</script>

<template>
  <VChart
    :option="option"
    autoresize
    :style="{ height: `${60 + rows.length * 24}px` }"
    role="img"
    aria-label="Grants by when they begin and end"
  />
</template>
