<script setup lang="ts">
import type { AutocompleteInstance } from 'element-plus'
import { nextTick, onBeforeUnmount, onMounted, ref } from 'vue'
import { useRouter, type RouteLocationRaw } from 'vue-router'
import { api } from '../api/calls'
import { useCharter } from '../composables/useCharter'
import { texts } from '../texts/en'

/** Ctrl+K: pages, roles, rules, permissions, types and entities by a part of their name; `?`: all keys. */
const router = useRouter()
const charter = useCharter()
const open = ref(false)
const helping = ref(false)
const text = ref('')
const field = ref<AutocompleteInstance>()
interface Found {
  value: string
  what: string
  to: RouteLocationRaw
}
const keys: [string, string][] = [
  ['/', 'ask from anywhere: may somebody do something'],
  ['Ctrl+K', 'go to a page, role, rule, permission or entity'],
  ['?', 'these keys'],
  ['Arrows, Home, End', 'move in the roles grid'],
  ['Enter', 'in the roles grid of a draft: give the permission, or take it back'],
  ['Ctrl+S', 'in the charter text: save the draft'],
  ['F12', 'in the charter text: go to where a name is defined'],
  ['Ctrl+Space', 'in the charter text: complete a name'],
  ['F8', 'in the charter text: go to the next thing to mend'],
]

function known(): Found[] {
  const model = charter.model.value
  const pages = (Object.keys(texts.areas) as (keyof typeof texts.areas)[]).map((name) => ({
    value: texts.areas[name],
    what: 'page',
    to: { name },
  }))
  if (!model) return pages
  return [
    ...pages,
    ...model.roles.map((role) => ({ value: role.key, what: 'role', to: { name: 'role', params: { role: role.key } } })),
    ...model.rules.map((rule) => ({
      value: rule.key,
      what: 'rule',
      to: { name: 'refine', params: { part: 'rules' }, query: { rule: rule.key } },
    })),
    ...model.types.map((type) => ({ value: type.key, what: 'type', to: { name: 'describe', query: { type: type.key } } })),
    ...model.types.flatMap((type) =>
      type.actions.map((action) => ({
        value: `${type.key}:${action.key}`,
        what: 'permission',
        to: { name: 'roles', params: { type: type.key } },
      })),
    ),
  ]
}

async function suggest(query: string): Promise<Found[]> {
  const words = query.trim().toLowerCase()
  const near = known()
    .filter((one) => one.value.toLowerCase().includes(words))
    .slice(0, 12)
  if (words.length < 2) return near
  const page = await (words.includes(':') ? api.entities(words, 10) : api.entities('', 10, { containing: words })).catch(() => ({
    items: [],
  }))
  const entities = page.items.map((one) => ({ value: one.entity, what: 'entity', to: { name: 'entity', params: { name: one.entity } } }))
  return [...near, ...entities]
}

function go(found: Record<string, unknown>) {
  open.value = false
  void router.push((found as unknown as Found).to)
}

async function show() {
  text.value = ''
  open.value = true
  await nextTick()
  field.value?.focus()
}

function onKey(event: KeyboardEvent) {
  const target = event.target instanceof Element ? event.target : null
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'k' && !target?.closest('.cm-editor')) {
    event.preventDefault()
    void show()
  } else if (event.key === '?' && !target?.closest('input, textarea, [contenteditable]')) {
    event.preventDefault()
    helping.value = true
  }
}
onMounted(() => window.addEventListener('keydown', onKey))
onBeforeUnmount(() => window.removeEventListener('keydown', onKey))
</script>

<template>
  <ElDialog v-model="open" title="Go to" append-to-body @opened="field?.focus()">
    <ElAutocomplete
      ref="field"
      v-model="text"
      :fetch-suggestions="suggest"
      highlight-first-item
      placeholder="a page, role, rule, permission or entity"
      aria-label="Go to"
      autocomplete="off"
      spellcheck="false"
      class="field"
      @select="go"
    >
      <template #default="{ item }">
        <code>{{ (item as Found).value }}</code> <small class="soft">{{ (item as Found).what }}</small>
      </template>
    </ElAutocomplete>
  </ElDialog>
  <ElDialog v-model="helping" title="Keys" append-to-body>
    <ElDescriptions :column="1" border>
      <ElDescriptionsItem v-for="[key, what] in keys" :key="key" :label="key">{{ what }}</ElDescriptionsItem>
    </ElDescriptions>
  </ElDialog>
</template>

<style scoped>
.field {
  width: 100%;
}
small {
  margin-left: 8px;
}
</style>
