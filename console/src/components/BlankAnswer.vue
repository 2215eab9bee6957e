<script setup lang="ts">
import { computed, watch } from 'vue'
import { RouterLink } from 'vue-router'
import { api, type Question } from '../api/calls'
import FailureNote from './FailureNote.vue'
import { useAsync } from '../composables/useAsync'
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
const told = useAsync(async (question: Question, blank: Blank, after?: string) => {
  if (blank === 'holders') {
    const found = await api.holders(question)
    return { ...found, lines: found.items.map((one): Line => ({ name: one.who, allowed: true, reason: one.reason, note: one.through ?? '', slots: one.who.includes(':') ? { subject: one.who } : {} })) }
  }
  if (blank === 'reach') {
    const found = await api.reach(question, after)
    return { ...found, lines: found.items.map((one): Line => ({ name: one.resource, allowed: true, reason: one.reason, note: '', slots: { resource: one.resource } })) }
  }
  const found = await api.actions(question)
  return { ...found, lines: found.items.map((one): Line => ({ name: one.permission, allowed: one.answer === 'allowed', reason: one.reason, note: one.description, slots: { permission: one.permission } })) }
})
const title = computed(() => {
  const { subject, permission, resource } = props.question
  if (props.blank === 'holders') return `Who may ${permission}${resource ? ` on ${resource}` : ''}?`
  return props.blank === 'reach' ? `On what may ${subject} ${permission}?` : `What may ${subject} do with ${resource}?`
})
watch(() => [props.question, props.blank] as const, ([question, blank]) => void told.run(question, blank), { immediate: true })
</script>

<template>
  <article class="sheet" :aria-label="title">
    <h2>{{ title }}</h2>
    <FailureNote v-if="told.error.value" :error="told.error.value" />
    <p v-else-if="!told.data.value" class="soft">Asking …</p>
    <template v-else>
      <p v-if="!told.data.value.lines.length">{{ blank === 'holders' ? 'Nobody that is registered.' : 'Nothing that is registered.' }}</p>
      <table v-else class="rows">
        <tbody>
          <tr v-for="line in told.data.value.lines" :key="line.name">
            <td class="mono">
              <RouterLink v-if="Object.keys(line.slots).length && (line.slots.resource ?? question.resource)" :to="{ name: 'try', query: { subject: question.subject, permission: question.permission, resource: question.resource, ...line.slots } }">{{ line.name }}</RouterLink>
              <template v-else>{{ line.name }}</template>
            </td>
            <td :class="line.allowed ? 'allowed' : 'denied'">{{ line.allowed ? 'allowed' : 'denied' }}</td>
            <td><code>{{ line.reason }}</code></td>
            <td class="soft">{{ line.note }}</td>
          </tr>
        </tbody>
      </table>
      <p class="soft">
        {{ counted(told.data.value.lines.length, { holders: 'subject', reach: 'resource', actions: 'permission' }[blank]) }}<template v-if="!told.data.value.whole">, and there are more</template><template v-if="told.data.value.new">; what is not registered yet is meant too</template>.
        <button v-if="told.data.value.next" type="button" class="plain-button" @click="told.run(question, blank, told.data.value!.next)">More</button>
      </p>
    </template>
  </article>
</template>
