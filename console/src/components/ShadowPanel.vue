<script setup lang="ts">
import { computed, watch } from 'vue'
import { RouterLink } from 'vue-router'
import { api } from '../api/calls'
import type { DifferenceGroup, Shadow } from '../api/types'
import { useAsync } from '../composables/useAsync'
import { happened } from '../support/happened'
import { counted, moment } from '../support/words'
import FailureNote from './FailureNote.vue'

/** A shadow: how many answers differ, and which, what is newly denied first. */
const props = defineProps<{ shadow: Shadow }>()
const emit = defineEmits<{ ended: [] }>()
const found = useAsync(api.shadowDifferences)
const ended = useAsync(api.endShadow)
const kept = useAsync(api.keepCase)
const groups = computed(() => found.data.value ?? [])
watch(
  () => [props.shadow.number, props.shadow.differing],
  () => void found.run(props.shadow.number),
  { immediate: true },
)
type Question = DifferenceGroup['questions'][number]

async function end() {
  if (await ended.run(props.shadow.number)) emit('ended')
}
/** As it is answered live: the revision is what is to be mended. */
async function keep(group: DifferenceGroup, one: Question) {
  const word = group['newly-denied'] ? 'may' : 'may not'
  const name = `${one.subject} ${word} ${group.permission} on ${one.resource ?? 'a new one'}`
  const resource = one.resource ? { resource: one.resource } : {}
  const { context } = one.said
  const asked = { name, subject: one.subject, permission: group.permission, may: group['newly-denied'], ...resource }
  if (await kept.run({ ...asked, ...(context ? { context } : {}) })) happened(`A case: ${name}`)
}
</script>

<template>
  <article class="shadow">
    <h3>
      Shadow {{ shadow.number }}: revision {{ shadow.revision }} for {{ shadow.applications.join(', ') }}
      <ElButton v-if="!shadow.ended" size="small" :loading="ended.busy.value" @click="end">Stop it</ElButton>
    </h3>
    <p>
      {{ shadow.differing.toLocaleString('en') }} of {{ counted(shadow.asked, 'answer') }} {{ shadow.differing === 1 ? 'differs' : 'differ'
      }}<template v-if="shadow.sampled > 1">; one question in {{ shadow.sampled }} is answered once more</template
      ><template v-if="shadow.dropped">; for {{ shadow.dropped.toLocaleString('en') }} there was no room</template>.
      <span class="soft">Begun {{ moment(shadow.started) }}, by {{ shadow.by }}{{ shadow.ended ? `; ended: ${shadow.ended}` : '' }}</span>
    </p>
    <FailureNote
      v-for="one in [found, ended, kept].filter((call) => call.error.value)"
      :key="one.error.value!.message"
      :error="one.error.value!"
    />
    <section v-for="group in groups" :key="group.permission + group.reason + group['shadow-reason']">
      <h4>
        <span :class="group['newly-denied'] ? 'denied' : 'allowed'">{{ group['newly-denied'] ? 'newly denied' : 'newly allowed' }}</span>
        <code>{{ group.permission }}</code>, {{ counted(group.times, 'time') }}
        <span class="soft">live {{ group.reason }}, in the shadow {{ group['shadow-reason'] }}</span>
      </h4>
      <ElTable :data="group.questions" :row-key="(row: Question) => row.subject + row.resource + row.first" size="small">
        <ElTableColumn label="Who" prop="subject" sortable min-width="140">
          <template #default="{ row }: { row: Question }"
            ><RouterLink
              :to="{ name: 'try', query: { subject: row.subject, permission: group.permission, resource: row.resource ?? '' } }"
              class="mono"
              >{{ row.subject }}</RouterLink
            ></template
          >
        </ElTableColumn>
        <ElTableColumn label="On" prop="resource" sortable min-width="150">
          <template #default="{ row }: { row: Question }"
            ><code>{{ row.resource ?? 'a new one' }}</code></template
          >
        </ElTableColumn>
        <ElTableColumn label="Asked by" prop="application" min-width="110" />
        <ElTableColumn label="Times" prop="times" sortable width="90" align="right" />
        <ElTableColumn label="Last" min-width="150">
          <template #default="{ row }: { row: Question }">{{ moment(row.last) }}</template>
        </ElTableColumn>
        <ElTableColumn label="" width="140" align="right">
          <template #default="{ row }: { row: Question }"
            ><ElButton size="small" :aria-label="`Make a case of ${row.subject}`" @click="keep(group, row)"
              >Make it a case</ElButton
            ></template
          >
        </ElTableColumn>
      </ElTable>
    </section>
  </article>
</template>

<style scoped>
h3 {
  font-size: 16px;
  margin: 12px 0 4px;
}
h4 {
  font-size: 14px;
  font-weight: 400;
  margin: 10px 0 2px;
}
p {
  margin: 4px 0;
}
</style>
