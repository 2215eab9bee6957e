<script setup lang="ts">
import { useId } from 'vue'

/** A condition: it grows with its text; Enter writes it, Shift and Enter begin a line. */
defineProps<{ label: string; placeholder?: string; name?: string; hiddenLabel?: boolean }>()
const model = defineModel<string>({ required: true })
const id = useId()

function onEnter(event: Event | KeyboardEvent) {
  if (event instanceof KeyboardEvent && event.shiftKey) return
  event.preventDefault()
  ;(event.target as HTMLTextAreaElement).form?.requestSubmit()
}
</script>

<template>
  <div class="labelled wide">
    <label :for="id" :class="{ 'visually-hidden': hiddenLabel }">{{ label }}</label>
    <ElInput
      :id="id"
      v-model="model"
      type="textarea"
      :autosize="{ minRows: 1, maxRows: 8 }"
      :name="name"
      :placeholder="placeholder ?? 'always'"
      autocomplete="off"
      spellcheck="false"
      @keydown.enter="onEnter"
    />
  </div>
</template>
