<script setup lang="ts">
import { ref, useId } from 'vue'
import { api } from '../api/calls'
import { saidOfEntity } from '../support/words'

/** Several names, found in the register as one types; what it does not know can be written too. */
const props = defineProps<{ label: string; placeholder: string; name: string; width: number; types?: string[] }>()
const model = defineModel<string[]>({ required: true })
const id = useId()
const found = ref<{ value: string; note: string }[]>([])
let asked = 0

async function search(text: string) {
  const own = ++asked
  const typed = text.trim()
  if (typed.length < 2) {
    found.value = []
    return
  }
  const page = await (typed.includes(':') ? api.entities(typed, 20) : api.entities('', 40, { containing: typed })).catch(() => ({
    items: [],
  }))
  const fits = (name: string) => !props.types || props.types.includes(name.split(':')[0]!)
  if (own === asked)
    found.value = page.items
      .filter((one) => fits(one.entity))
      .slice(0, 12)
      .map((one) => ({ value: one.entity, note: saidOfEntity(one) }))
}
</script>

<template>
  <div class="labelled" :style="{ width: `${width}em` }">
    <label :for="id">{{ label }}</label>
    <ElSelect
      :id="id"
      v-model="model"
      :name="name"
      multiple
      filterable
      remote
      allow-create
      default-first-option
      :reserve-keyword="false"
      :remote-method="search"
      :placeholder="placeholder"
    >
      <ElOption v-for="one in found" :key="one.value" :value="one.value" :label="one.value">
        <code>{{ one.value }}</code> <small class="soft">{{ one.note }}</small>
      </ElOption>
    </ElSelect>
  </div>
</template>
