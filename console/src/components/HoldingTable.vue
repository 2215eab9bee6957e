<script setup lang="ts">
import { RouterLink } from 'vue-router'
import type { Holding } from '../api/types'
import { useColumns } from '../composables/useColumns'
import { useNarrowed } from '../composables/useNarrowed'
import { moment } from '../support/words'
import { texts } from '../texts/en'
import ColumnsChoice from './ColumnsChoice.vue'
import NarrowField from './NarrowField.vue'
import TakeAway from './TakeAway.vue'

/** Grants, soonest end first, with where they come from and how they stand. */
const props = defineProps<{ items: Holding[]; at?: string; marked?: Set<string>; fixed?: boolean }>()
const emit = defineEmits<{ end: [string] }>()
const ALL = ['holder', 'given at', 'until', 'now']
const columns = useColumns(() => 'grants', ALL)
const values = (given?: Record<string, unknown[]>) =>
  Object.entries(given ?? {})
    .map(([key, all]) => `${key} ${all.join(', ')}`)
    .join('; ')
const { narrow, shown } = useNarrowed(
  () => props.items,
  ({ grant, standing, why }) =>
    `${grant.role} ${grant.id} ${grant.to} ${grant.at} ${texts.standings[standing]} ${why ?? ''} ${values(grant.values)}`,
)
const isMarked = ({ row }: { row: Holding }) => (props.marked?.has(`${row.grant.role} ${row.grant.at}`) ? 'marked' : '')
/** What ends comes before what does not. */
const ends = (row: Holding) => row.grant.until ?? '9999'
</script>

<template>
  <div v-if="items.length > 6" class="line">
    <NarrowField v-model="narrow" :shown="shown.length" :of="items.length" what="grants" />
    <ColumnsChoice v-model="columns" :all="ALL" />
  </div>
  <ElTable :data="shown" row-key="grant.id" :row-class-name="isMarked">
    <ElTableColumn label="Role" sortable sort-by="grant.role" min-width="150">
      <template #default="{ row }: { row: Holding }"
        ><strong>{{ row.grant.role }}</strong> <code class="soft">{{ row.grant.id }}</code><br v-if="row.grant.values" /><span
          class="soft"
          >{{ values(row.grant.values) }}</span
        ></template
      >
    </ElTableColumn>
    <ElTableColumn v-if="columns.includes('holder')" label="Holder" sortable sort-by="grant.to" min-width="150">
      <template #default="{ row }: { row: Holding }">
        <RouterLink :to="{ name: 'entity', params: { name: row.grant.to } }" class="mono">{{ row.grant.to }}</RouterLink><span
          v-if="row.members"
          class="soft"
        >
          ({{ row.members }})</span
        >
      </template>
    </ElTableColumn>
    <ElTableColumn v-if="columns.includes('given at')" label="Given at" sortable sort-by="grant.at" min-width="220">
      <template #default="{ row }: { row: Holding }">
        <RouterLink v-if="row.grant.at !== 'everywhere'" :to="{ name: 'give', query: { at: row.grant.at } }" class="mono">{{
          row.grant.at
        }}</RouterLink>
        <template v-else>everywhere</template>
        <span v-if="at && row.grant.at !== at" class="soft">, arrives here</span>
      </template>
    </ElTableColumn>
    <ElTableColumn v-if="columns.includes('until')" label="Until" sortable :sort-by="ends" min-width="170">
      <template #default="{ row }: { row: Holding }"
        >{{ row.grant.until ? moment(row.grant.until) : 'no end'
        }}<template v-if="row.grant.from"
          ><br /><span class="soft">from {{ moment(row.grant.from) }}</span></template
        ></template
      >
    </ElTableColumn>
    <ElTableColumn v-if="columns.includes('now')" label="Now" sortable sort-by="standing" min-width="110">
      <template #default="{ row }: { row: Holding }"
        ><span :class="row.standing"
          >{{ texts.standings[row.standing] }}<template v-if="row.why">: {{ row.why }}</template></span
        ></template
      >
    </ElTableColumn>
    <ElTableColumn v-if="!fixed" label="" width="90" align="right">
      <template #default="{ row }: { row: Holding }">
        <TakeAway
          text="End"
          :name="`End ${row.grant.id}: ${row.grant.role} of ${row.grant.to}`"
          :asks="`${row.grant.to} will not hold ${row.grant.role} at ${row.grant.at} by this grant any more, at once and on every node.`"
          answer="End it"
          @confirmed="emit('end', row.grant.id)"
        />
      </template>
    </ElTableColumn>
  </ElTable>
</template>

<style scoped>
:deep(tr.marked td:first-child) {
  border-left: 3px solid var(--undetermined);
}
:deep(tr.marked td:first-child .cell) {
  padding-left: 8px;
}
</style>
