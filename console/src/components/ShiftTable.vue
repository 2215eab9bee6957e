<script setup lang="ts">
import { computed, defineAsyncComponent, onMounted, ref } from 'vue'
import { RouterLink } from 'vue-router'
import { api } from '../api/calls'
import { useAsync } from '../composables/useAsync'
import { useNarrowed } from '../composables/useNarrowed'
import type { Shift } from '../support/rehearsed'
import { counted } from '../support/words'
import NarrowField from './NarrowField.vue'

/** Who gains and who loses, losers first; services stand above people. */
const BarChart = defineAsyncComponent(() => import('./BarChart.vue'))
const props = defineProps<{ shift: Shift }>()
type Line = Shift['lines'][number]
const which = ref<'all' | 'loses' | 'gains'>('all')
const of = computed(() => props.shift.lines.filter((line) => which.value === 'all' || line.lost === (which.value === 'loses')))
const { narrow, shown } = useNarrowed(
  of,
  (line) => `${line.permission} ${line.kind} ${line.before} ${line.after} ${line.who.map((who) => who.subject).join(' ')}`,
)
const model = useAsync(() => api.model())
onMounted(() => void model.run())
/** How many subjects gain and lose, by the application whose type it is about. */
const byApplication = computed(() => {
  const of = new Map(model.data.value?.types.map((type) => [type.key, type.application]))
  const all = new Map<string, [number, number]>()
  for (const line of props.shift.lines) {
    const type = line.permission.split(':')[0]!
    const application = of.get(type) ?? type
    const [gain, lose] = all.get(application) ?? [0, 0]
    all.set(application, line.lost ? [gain, lose + line.subjects] : [gain + line.subjects, lose])
  }
  return [...all].map(([name, [gain, lose]]) => ({ name, values: [gain, lose] }))
})
const asking = (line: Line, who: Line['who'][number]) => ({
  name: 'try',
  query: { subject: who.subject, permission: line.permission, resource: who.on[0] === 'a new one' ? '' : (who.on[0] ?? '') },
})
</script>

<template>
  <section aria-labelledby="shift">
    <h3 id="shift">Who gains and who loses</h3>
    <p class="soft">
      {{ counted(shift.permissions.length, 'permission') }} could have changed, for {{ counted(shift.subjects, 'subject') }};
      {{ counted(shift.asked, 'question') }} asked before and after.
    </p>
    <p v-if="!shift.lines.length">Nobody may do anything that they could not before, nor the other way round.</p>
    <template v-else>
      <BarChart
        v-if="byApplication.length > 1"
        title="Subjects that gain and lose, by application"
        :series="['gain', 'lose']"
        :rows="byApplication"
      />
      <div class="line">
        <ElSegmented v-model="which" :options="['all', 'loses', 'gains']" aria-label="Which" size="small" />
        <NarrowField v-model="narrow" :shown="shown.length" :of="of.length" what="lines" />
      </div>
      <ElTable :data="shown" :row-key="(line: Line) => `${line.permission} ${line.kind} ${line.lost} ${line.before} ${line.after}`">
        <ElTableColumn type="expand">
          <template #default="{ row }: { row: Line }">
            <ul class="who">
              <li v-for="who in row.who" :key="who.subject">
                <RouterLink :to="asking(row, who)" class="mono">{{ who.subject }}</RouterLink>
                <span class="soft"
                  >on {{ who.on.join(', ')
                  }}{{ who.count > who.on.length ? ` and ${(who.count - who.on.length).toLocaleString('en')} more` : '' }}</span
                >
              </li>
            </ul>
            <p v-if="row.subjects > row.who.length" class="soft">
              and {{ (row.subjects - row.who.length).toLocaleString('en') }} more; the JSON of the report names them all
            </p>
          </template>
        </ElTableColumn>
        <ElTableColumn label="What" sortable sort-by="permission" min-width="190">
          <template #default="{ row }: { row: Line }"
            ><span :class="row.lost ? 'denied' : 'allowed'">{{ row.lost ? 'loses' : 'gains' }}</span>
            <code>{{ row.permission }}</code></template
          >
        </ElTableColumn>
        <ElTableColumn label="Who" sortable sort-by="subjects" min-width="220">
          <template #default="{ row }: { row: Line }">
            {{ counted(row.subjects, row.kind) }}:
            <template v-for="(who, at) in row.who.slice(0, 3)" :key="who.subject"
              ><template v-if="at">, </template><RouterLink :to="asking(row, who)">{{ who.subject }}</RouterLink></template
            ><template v-if="row.subjects > 3">, …</template>
          </template>
        </ElTableColumn>
        <ElTableColumn label="On" sortable sort-by="resources" min-width="110">
          <template #default="{ row }: { row: Line }">{{ counted(row.resources, 'resource') }}</template>
        </ElTableColumn>
        <ElTableColumn label="Live" prop="before" sortable min-width="140" />
        <ElTableColumn label="Draft" prop="after" sortable min-width="140" />
      </ElTable>
    </template>
    <template v-if="shift.unexamined.length">
      <h4>Not examined</h4>
      <ul>
        <li v-for="line in shift.unexamined" :key="line">{{ line }}</li>
      </ul>
    </template>
  </section>
</template>

<style scoped>
h3 {
  font-size: 16px;
  margin: 16px 0 4px;
}
p {
  margin: 4px 0;
}
.who {
  margin: 0 0 0 48px;
}
</style>
