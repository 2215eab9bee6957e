<script setup lang="ts">
import type { ConditionTold, Value3 } from '../api/types'
import StakeMark from './StakeMark.vue'

defineProps<{ conditions: ConditionTold[] }>()

/** In a condition true opens nothing by itself; the mark tells its value, the word says it. */
function mark(value: Value3) {
  return value === 'undetermined' ? 'undetermined' : value === 'true' ? 'allowed' : 'denied'
}
</script>

<template>
  <table v-for="(condition, at) in conditions" :key="at">
    <caption>
      {{ condition.of }}, <span class="mono">{{ condition.place }}</span>: the whole is {{ condition.value }}
    </caption>
    <thead class="visually-hidden">
      <tr><th scope="col">Part</th><th scope="col">Read</th><th scope="col">Value</th></tr>
    </thead>
    <tbody>
      <tr v-for="(part, row) in condition.parts" :key="row">
        <td><code>{{ part.text }}</code></td>
        <td>
          <div v-for="([path, read], index) in part.reads" :key="index"><code>{{ path }}</code> is <code>{{ read }}</code></div>
        </td>
        <td class="value" :class="mark(part.value)"><StakeMark :kind="mark(part.value)" :size="14" /> {{ part.value }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
table {
  width: 100%;
  margin-top: 8px;
}
caption {
  text-align: left;
  color: var(--soft);
  padding-bottom: 2px;
}
td {
  border-top: 1px solid var(--rule);
  padding: 4px 12px 4px 0;
  vertical-align: top;
  overflow-wrap: break-word;
}
.value {
  white-space: nowrap;
  width: 8em;
}
</style>
