<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useCharter } from '../composables/useCharter'
import { blank, blankOf, permissionOf } from '../support/question'
import NameField from './NameField.vue'

/** A question from any page; what is selected on the page fills its slots. */
const route = useRoute()
const router = useRouter()
const charter = useCharter()
const subject = ref('')
const action = ref('')
const resource = ref('')
const hint = ref('')
const first = ref<InstanceType<typeof NameField>>()
/** The actions of the resource's type, or of all. */
const actions = computed(() => {
  const type = resource.value.split(':')[0]
  const types = charter.model.value?.types ?? []
  const of = types.filter((one) => !resource.value.includes(':') || one.key === type)
  return [
    ...new Set(of.flatMap((one) => one.actions.map((known) => (resource.value.includes(':') ? known.key : `${one.key}:${known.key}`)))),
  ]
})
const resources = computed(() => (charter.model.value?.types ?? []).map((type) => type.key))

watch(
  () => route.query,
  (query) => {
    if (typeof query.subject === 'string') subject.value = query.subject
    for (const one of ['on', 'at'] as const) if (typeof query[one] === 'string' && query[one].includes(':')) resource.value = query[one]
    if (typeof query.permission === 'string') action.value = query.permission
    if (typeof query.resource === 'string') resource.value = query.resource
  },
  { immediate: true },
)

function ask() {
  const permission = permissionOf(action.value, resource.value)
  const slots = { subject: subject.value.trim(), permission, resource: resource.value.trim() }
  const asked = blankOf(slots)
  hint.value = asked ? '' : (blank(slots) ?? '')
  if (hint.value) return
  void router.push({ name: 'try', query: { ...slots, ...(asked ? { blank: asked } : {}), at: String(Date.now()) } })
}

/** From a field of this line it begins anew; in other fields a stroke is a stroke. */
function onKey(event: KeyboardEvent) {
  const target = event.target instanceof Element ? event.target : null
  const typing = target?.closest('input, textarea, [contenteditable]') && !target.closest('form[aria-label=Ask]')
  if (event.key !== '/' || typing || event.ctrlKey || event.metaKey || event.altKey) return
  event.preventDefault()
  first.value?.focus()
  ;(document.activeElement as HTMLInputElement | null)?.select?.()
}
onMounted(() => window.addEventListener('keydown', onKey))
onBeforeUnmount(() => window.removeEventListener('keydown', onKey))
</script>

<template>
  <form aria-label="Ask" @submit.prevent="ask">
    <span>May</span>
    <NameField
      ref="first"
      v-model="subject"
      label="subject"
      hidden-label
      placeholder="user:ines"
      :types="['user', 'service']"
      :width="12"
    />
    <NameField v-model="action" label="action" hidden-label placeholder="release" :known="actions" :width="12" />
    <NameField v-model="resource" label="resource" hidden-label placeholder="manifest:m-204" :types="resources" :width="14" />
    <span>?</span>
    <ElButton type="primary" native-type="submit">Ask</ElButton>
    <span class="hint" role="status">{{ hint }}</span>
    <kbd v-if="!hint" title="Press / to ask from anywhere">/</kbd>
  </form>
</template>

<style scoped>
form {
  grid-column: 1 / -1;
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
  padding: 8px 20px;
  background: var(--sheet);
  border-top: 1px solid var(--rule);
  font-family: var(--serif);
  font-size: 16px;
}
.hint {
  font: 14px var(--sans);
  color: var(--denied);
}
kbd {
  margin-left: auto;
  font: 12px var(--mono);
  color: var(--soft);
  border: 1px solid var(--rule);
  border-radius: 2px;
  padding: 0 6px;
}
</style>
