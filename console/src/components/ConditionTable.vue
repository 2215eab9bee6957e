<script setup lang="ts">
import type { ConditionTold, Value3 } from '../api/types'
import StakeMark from './StakeMark.vue'

const props = defineProps<{
  conditions: ConditionTold[]
  /** Whose conditions deny where they are true. */
  denying?: string[]
}>()

/** The mark of an open gate where what is true lets in, of a shut one where it denies. */
function mark(of: string, value: Value3): 'allowed' | 'denied' | 'undetermined' {
  if (value === 'undetermined') return 'undetermined'
  return (value === 'true') === Boolean(props.denying?.includes(of)) ? 'denied' : 'allowed'
}
type Part = ConditionTold['parts'][number]
</script>

<template>
  <section v-for="(condition, at) in conditions" :key="at" :aria-label="condition.of">
    <p class="soft caption">
      {{ condition.of }}, <span class="mono">{{ condition.place }}</span>: the whole is {{ condition.value }}
    </p>
    <ElTable :data="condition.parts" size="small">
      <ElTableColumn label="Part" min-width="180">
        <template #default="{ row }: { row: Part }"
          ><code>{{ row.text }}</code></template
        >
      </ElTableColumn>
      <ElTableColumn label="Read" min-width="180">
        <template #default="{ row }: { row: Part }">
          <div v-for="([path, read], index) in row.reads" :key="index">
            <code>{{ path }}</code> is <code>{{ read }}</code>
          </div>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Value" width="130">
        <template #default="{ row }: { row: Part }"
          ><span :class="mark(condition.of, row.value)"
            ><StakeMark :kind="mark(condition.of, row.value)" :size="14" /> {{ row.value }}</span
          ></template
        >
      </ElTableColumn>
    </ElTable>
  </section>
</template>

<style scoped>
.caption {
  margin: 8px 0 0;
}
</style>
