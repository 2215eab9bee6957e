<script setup lang="ts">
import { computed } from 'vue'
import type { Live, Revision, Shadow } from '../api/types'
import { moment } from '../support/words'

/** What is live where: one row an application; the way back always in the same place. */
const props = defineProps<{ live: Live[]; revisions: Revision[]; shadows: Shadow[] }>()
const emit = defineEmits<{ back: [application: string]; on: [revision: number, application: string] }>()
const newest = computed(() => props.revisions.find((revision) => revision.approved && !revision.barred)?.number)
const shadowOf = (row: Live) => props.shadows.find((shadow) => !shadow.ended && shadow.applications.includes(row.application))
/** An approved revision that is newer than the live one. */
const next = (row: Live) => (newest.value && newest.value > row.revision ? newest.value : undefined)
</script>

<template>
  <ElTable :data="live" row-key="application">
    <ElTableColumn label="Application" prop="application" sortable min-width="120">
      <template #default="{ row }: { row: Live }"
        ><strong>{{ row.application }}</strong></template
      >
    </ElTableColumn>
    <ElTableColumn label="Live" prop="revision" sortable min-width="250">
      <template #default="{ row }: { row: Live }"
        >revision {{ row.revision }}, {{ row.title }} <span v-if="row.urgent" class="denied">urgent, nobody approved it</span><br /><span
          class="soft"
          >since {{ moment(row.since) }}, by {{ row.by }}</span
        ></template
      >
    </ElTableColumn>
    <ElTableColumn label="Shadow" min-width="130">
      <template #default="{ row }: { row: Live }"
        ><template v-if="shadowOf(row)"
          >revision {{ shadowOf(row)!.revision }}: {{ shadowOf(row)!.differing }} of {{ shadowOf(row)!.asked }} differ</template
        ><span v-else class="soft">none</span></template
      >
    </ElTableColumn>
    <ElTableColumn label="Waiting" min-width="130">
      <template #default="{ row }: { row: Live }"
        ><template v-if="next(row)">revision {{ next(row) }}</template
        ><span v-else class="soft">nothing</span></template
      >
    </ElTableColumn>
    <ElTableColumn label="" width="240" align="right">
      <template #default="{ row }: { row: Live }">
        <ElButton
          v-if="next(row)"
          size="small"
          type="primary"
          :aria-label="`Roll out ${next(row)}, ${row.application}`"
          @click="emit('on', next(row)!, row.application)"
          >Roll out {{ next(row) }}</ElButton
        >
        <ElButton
          size="small"
          :disabled="!row.back"
          :aria-label="`Roll back${row.back ? ` to ${row.back}` : ''}, ${row.application}`"
          @click="emit('back', row.application)"
          >Roll back{{ row.back ? ` to ${row.back}` : '' }}</ElButton
        >
      </template>
    </ElTableColumn>
  </ElTable>
</template>
