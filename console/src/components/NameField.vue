<script setup lang="ts">
import { onScopeDispose, ref, useId, watch } from 'vue'
import { api } from '../api/calls'
import { useAsync } from '../composables/useAsync'

/** A field with suggestions: from a list that is known, or from the register as one types. */
const props = defineProps<{ label: string; placeholder: string; known?: string[]; width: number }>()
const model = defineModel<string>({ required: true })
const id = useId()
const typed = ref(false)
/** Whole names by how they begin; a bare word by where it stands. */
const found = useAsync(async (text: string) => {
  const page = text.includes(':') ? await api.entities(text, 12) : await api.entities('', 12, { containing: text })
  return page.items.map((item) => item.entity)
})
let timer: ReturnType<typeof setTimeout> | undefined

watch(model, (text) => {
  clearTimeout(timer)
  if (!props.known && typed.value && text.length > 1) timer = setTimeout(() => void found.run(text), 150)
})
onScopeDispose(() => clearTimeout(timer))
</script>

<template>
  <div class="field" :style="{ width: `${width}em` }">
    <label :for="id">{{ label }}</label>
    <input :id="id" v-model="model" :placeholder="placeholder" :list="`${id}-known`" autocomplete="off" spellcheck="false" @input="typed = true" />
    <datalist :id="`${id}-known`">
      <option v-for="name in known ?? found.data.value ?? []" :key="name" :value="name" />
    </datalist>
  </div>
</template>

<style scoped>
.field {
  display: grid;
  gap: 2px;
  max-width: 100%;
}
label {
  color: var(--soft);
}
input {
  font: 14px var(--mono);
  color: inherit;
  background: var(--sheet);
  border: 1px solid var(--edge);
  border-radius: 2px;
  padding: 5px 8px;
  min-height: 32px;
  width: 100%;
}
input::placeholder {
  color: var(--soft);
}
</style>
