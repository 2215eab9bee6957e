<script setup lang="ts">
import { ref, useId, watch } from 'vue'
import { api } from '../api/calls'
import { useAsync } from '../composables/useAsync'

/** A field with suggestions: from a list that is known, or from the register as one types. */
const props = defineProps<{ label: string; placeholder: string; known?: string[]; width: number }>()
const model = defineModel<string>({ required: true })
const id = useId()
const typed = ref(false)
const found = useAsync(async (prefix: string) => (await api.entities(prefix, 12)).items.map((item) => item.entity))

watch(model, (text) => {
  if (!props.known && typed.value && text.includes(':')) void found.run(text)
})
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
