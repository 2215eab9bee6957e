<script setup lang="ts">
import type { AutocompleteInstance } from 'element-plus'
import { onMounted, ref, useId } from 'vue'
import { api } from '../api/calls'
import { saidOfEntity } from '../support/words'

/** A field with suggestions: from a list that is known, or from the register as one types. */
const props = defineProps<{
  label: string
  placeholder: string
  known?: string[]
  /** In ems; without one it takes what room there is. */
  width?: number
  /** Only names of these types are suggested. */
  types?: string[]
  hiddenLabel?: boolean
}>()
const model = defineModel<string>({ required: true })
const id = useId()
const field = ref<AutocompleteInstance>()
interface Suggested {
  value: string
  note?: string
}

/** Whole names by how they begin; a bare word by where it stands. */
async function suggest(text: string): Promise<Suggested[]> {
  if (props.known) return props.known.filter((name) => name.includes(text) && name !== text).map((value) => ({ value }))
  if (text.trim().length < 2) return (props.types ?? []).map((type) => ({ value: `${type}:`, note: 'a type' }))
  const fits = (name: string) => !props.types || props.types.includes(name.split(':')[0]!)
  const one = props.types?.length === 1 && !text.includes(':') ? `${props.types[0]}:` : ''
  const found = await (text.includes(':') ? api.entities(text, 20) : api.entities(one, 20, { containing: text })).catch(() => ({
    items: [],
  }))
  return found.items
    .filter((item) => fits(item.entity))
    .slice(0, 12)
    .map((item) => ({ value: item.entity, note: saidOfEntity(item) }))
}

/** Enter takes what is highlighted; else it is the form's, and Home and End are the text's. */
function onKey(event: KeyboardEvent) {
  if ((field.value?.highlightedIndex ?? -1) >= 0 || !['Enter', 'Home', 'End'].includes(event.key)) return
  event.stopPropagation()
  if (event.key !== 'Enter') return
  event.preventDefault()
  field.value?.close()
  ;(event.target as HTMLInputElement).form?.requestSubmit()
}
/** Nothing is highlighted before there is anything to highlight. */
onMounted(() => field.value?.inputRef?.ref?.removeAttribute('aria-activedescendant'))
defineExpose({ focus: () => field.value?.focus() })
</script>

<template>
  <div class="labelled field" :style="width ? { width: `${width}em` } : {}" @keydown.capture="onKey">
    <label :for="id" :class="{ 'visually-hidden': hiddenLabel }">{{ label }}</label>
    <ElAutocomplete
      :id="id"
      ref="field"
      v-model="model"
      :fetch-suggestions="suggest"
      :placeholder="placeholder"
      :debounce="150"
      autocomplete="off"
      spellcheck="false"
    >
      <template #default="{ item }">
        <code>{{ (item as Suggested).value }}</code>
        <small v-if="(item as Suggested).note" class="soft">{{ (item as Suggested).note }}</small>
      </template>
    </ElAutocomplete>
  </div>
</template>
