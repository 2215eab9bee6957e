<script setup lang="ts">
import { computed, watch } from 'vue'
import { RouterLink } from 'vue-router'
import { api, type Question } from '../api/calls'
import FailureNote from './FailureNote.vue'
import NarrowField from './NarrowField.vue'
import { useAsync } from '../composables/useAsync'
import { useNarrowed } from '../composables/useNarrowed'
import type { Blank } from '../support/question'
import { counted } from '../support/words'

/** The answer to a question with a blank: who may, with what, or what. Each line can be asked whole. */
const props = defineProps<{ question: Question; blank: Blank }>()
interface Line {
  name: string
  allowed: boolean
  reason: string
  note: string
  slots: { subject?: string; permission?: string; resource?: string }
}
interface Told {
  lines: Line[]
  whole: boolean
  next?: string
  new?: boolean
}
/** A page, behind those that are there. */
const told = useAsync(async (question: Question, blank: Blank, before: Line[], after?: string): Promise<Told> => {
  if (blank === 'holders') {
    const found = await api.holders(question, after)
    return {
      ...found,
      lines: [
        ...before,
        ...found.items.map((one): Line => ({ name: one.who, allowed: true, reason: one.reason, note: '', slots: { subject: one.who } })),
      ],
    }
  }
  if (blank === 'reach') {
    const found = await api.reach(question, after)
    return {
      ...found,
      lines: [
        ...before,
        ...found.items.map((one): Line => ({
          name: one.resource,
          allowed: true,
          reason: one.reason,
          note: '',
          slots: { resource: one.resource },
        })),
      ],
    }
  }
  const found = await api.actions(question)
  return {
    ...found,
    lines: found.items.map((one): Line => ({
      name: one.permission,
      allowed: one.answer === 'allowed',
      reason: one.reason,
      note: one.description,
      slots: { permission: one.permission },
    })),
  }
})
/** Of who may: the classes and the count, which take as long as it takes to ask everybody. */
const counts = useAsync(api.holdersCounted)
const title = computed(() => {
  const { subject, permission, resource } = props.question
  if (props.blank === 'holders') return `Who may ${permission}${resource ? ` on ${resource}` : ''}?`
  return props.blank === 'reach' ? `On what may ${subject} ${permission}?` : `What may ${subject} do with ${resource}?`
})
const { narrow, shown } = useNarrowed(
  () => told.data.value?.lines ?? [],
  (line) => `${line.name} ${line.reason} ${line.note}`,
)
const whole = (line: Line) => ({
  name: 'try',
  query: { subject: props.question.subject, permission: props.question.permission, resource: props.question.resource, ...line.slots },
})
watch(
  () => [props.question, props.blank] as const,
  ([question, blank]) => {
    void told.run(question, blank, [])
    counts.clear()
    if (blank === 'holders') void counts.run(question)
  },
  { immediate: true },
)
</script>

<template>
  <article class="sheet" :aria-label="title">
    <h2>{{ title }}</h2>
    <FailureNote v-if="told.error.value" :error="told.error.value" />
    <ElSkeleton v-else-if="!told.data.value" :rows="4" animated />
    <template v-else>
      <template v-if="blank === 'holders'">
        <p v-if="counts.busy.value" class="soft" role="status">Everybody is being asked, for the classes and the count …</p>
        <p v-else-if="counts.data.value" role="status">
          {{ counts.data.value.whole ? '' : 'At least ' }}{{ counted(counts.data.value.total ?? 0, 'subject') }} may in all.
        </p>
        <p v-if="counts.data.value?.note" class="soft">Known to the register: {{ counts.data.value.note }}.</p>
        <ul v-if="counts.data.value?.items.length" class="classes">
          <li v-for="one in counts.data.value.items" :key="one.who">
            <strong>{{ one.who }}</strong> <span class="soft">{{ one.through }}</span>
          </li>
        </ul>
      </template>
      <p v-if="!told.data.value.lines.length">{{ blank === 'holders' ? 'Nobody that is registered.' : 'Nothing that is registered.' }}</p>
      <template v-else>
        <NarrowField v-model="narrow" :shown="shown.length" :of="told.data.value.lines.length" what="lines" />
        <ElTable :data="shown" row-key="name" max-height="560">
          <ElTableColumn :label="{ holders: 'Who', reach: 'What', actions: 'Permission' }[blank]" prop="name" sortable min-width="180">
            <template #default="{ row }: { row: Line }"
              ><RouterLink :to="whole(row)" class="mono">{{ row.name }}</RouterLink></template
            >
          </ElTableColumn>
          <ElTableColumn label="Answer" prop="allowed" sortable width="110">
            <template #default="{ row }: { row: Line }"
              ><span :class="row.allowed ? 'allowed' : 'denied'">{{ row.allowed ? 'allowed' : 'denied' }}</span></template
            >
          </ElTableColumn>
          <ElTableColumn label="Reason" prop="reason" sortable min-width="150">
            <template #default="{ row }: { row: Line }"
              ><code>{{ row.reason }}</code></template
            >
          </ElTableColumn>
          <ElTableColumn v-if="blank === 'actions'" label="" prop="note" min-width="180" />
        </ElTable>
      </template>
      <p class="soft">
        {{ counted(told.data.value.lines.length, { holders: 'subject', reach: 'resource', actions: 'permission' }[blank])
        }}<template v-if="told.data.value.next">, and there are more</template
        ><template v-if="told.data.value.new">; what is not registered yet is meant too</template>.
        <ElButton
          v-if="told.data.value.next"
          size="small"
          :loading="told.busy.value"
          @click="told.run(question, blank, told.data.value!.lines, told.data.value!.next)"
          >More</ElButton
        >
      </p>
    </template>
  </article>
</template>

<style scoped>
.classes {
  margin: 6px 0;
  padding: 0;
  list-style: none;
}
p {
  margin: 6px 0;
}
</style>
