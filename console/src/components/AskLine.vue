<script setup lang="ts">
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { blank, blankOf, permissionOf } from '../support/question'

const route = useRoute()
const router = useRouter()
const subject = ref('')
const action = ref('')
const resource = ref('')
const hint = ref('')
const first = ref<HTMLInputElement>()

/** What is selected on the page fills the slots. */
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

function onKey(event: KeyboardEvent) {
  const target = event.target instanceof Element ? event.target : null
  const typing = target?.closest('input, textarea, [contenteditable]')
  if (event.key !== '/' || typing || event.ctrlKey || event.metaKey || event.altKey) return
  event.preventDefault()
  first.value?.focus()
  first.value?.select()
}
onMounted(() => window.addEventListener('keydown', onKey))
onBeforeUnmount(() => window.removeEventListener('keydown', onKey))
</script>

<template>
  <form aria-label="Ask" @submit.prevent="ask">
    <span>May</span>
    <label><span class="visually-hidden">subject</span><input ref="first" v-model="subject" placeholder="user:ines" autocomplete="off" spellcheck="false" /></label>
    <label><span class="visually-hidden">action</span><input v-model="action" placeholder="release" autocomplete="off" spellcheck="false" /></label>
    <label><span class="visually-hidden">resource</span><input v-model="resource" class="wide" placeholder="manifest:m-204" autocomplete="off" spellcheck="false" /></label>
    <span>?</span>
    <button type="submit">Ask</button>
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
  align-items: baseline;
  padding: 10px 20px;
  background: var(--sheet);
  border-top: 1px solid var(--rule);
  font-family: var(--serif);
  font-size: 16px;
}
input {
  font: 14px var(--mono);
  color: inherit;
  background: transparent;
  border: 0;
  border-bottom: 1px solid var(--edge);
  padding: 3px 4px;
  width: 11em;
}
input.wide {
  width: 15em;
}
input::placeholder {
  color: var(--soft);
}
button {
  font: 14px var(--sans);
  color: var(--sheet);
  background: var(--ink);
  border: 0;
  border-radius: 2px;
  padding: 4px 12px;
  cursor: pointer;
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
