<script setup lang="ts">
import { useId } from 'vue'

/** A moment: chosen, or typed as `2026-11-23 22:00` or a date alone, in the reader's own zone. */
defineProps<{ label: string; placeholder: string; name?: string }>()
/** In RFC 3339, or nothing. */
const model = defineModel<string>({ required: true })
const id = useId()
const zone = Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC'

const chosen = (at: unknown) => (model.value = at instanceof Date ? at.toISOString() : '')
/** A date alone is its midnight, as fact lines have it. */
function typed(event: FocusEvent | KeyboardEvent) {
  const text = (event.target as HTMLInputElement).value?.trim() ?? ''
  if (/^\d{4}-\d\d-\d\d$/.test(text)) model.value = `${text}T00:00:00Z`
  else if (/^\d{4}-\d\d-\d\dT[\d:.]+(Z|[+-]\d\d:\d\d)$/.test(text)) model.value = text
}
</script>

<template>
  <div class="labelled moment" @focusout="typed" @keydown.enter.capture="typed">
    <label :for="id"
      >{{ label }} <small>({{ zone }})</small></label
    >
    <ElDatePicker
      :id="id"
      :model-value="model ? new Date(model) : undefined"
      type="datetime"
      format="YYYY-MM-DD HH:mm:ss"
      :placeholder="placeholder"
      :name="name"
      :aria-label="label"
      @update:model-value="chosen"
    />
  </div>
</template>

<style scoped>
.moment {
  width: 13em;
}
.moment :deep(.el-date-editor) {
  width: 100%;
}
</style>
