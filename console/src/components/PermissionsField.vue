<script setup lang="ts">
import { computed, useId } from 'vue'
import type { Model } from '../api/types'

/** Permissions of the charter, several of them; a wildcard over a type can be written. */
const props = defineProps<{ label: string; name?: string; model: Model }>()
/** As text, one after the other with commas between. */
const text = defineModel<string>({ required: true })
const id = useId()
const all = computed(() => {
  const types = props.model.types.filter((type) => type.actions.length)
  return types.map((type) => ({
    type: type.key,
    permissions: [
      ...type.actions.map((action) => ({ key: `${type.key}:${action.key}`, words: action.description })),
      { key: `${type.key}:*`, words: 'all of them' },
    ],
  }))
})
const chosen = computed({
  get: () =>
    text.value
      .split(',')
      .map((one) => one.trim())
      .filter(Boolean),
  set: (permissions: string[]) => (text.value = permissions.join(', ')),
})
</script>

<template>
  <div class="labelled wide">
    <label :for="id">{{ label }}</label>
    <ElSelect
      :id="id"
      v-model="chosen"
      :name="name"
      multiple
      filterable
      allow-create
      default-first-option
      :reserve-keyword="false"
      placeholder="manifest:release"
    >
      <ElOptionGroup v-for="group in all" :key="group.type" :label="group.type">
        <ElOption v-for="one in group.permissions" :key="one.key" :value="one.key" :label="one.key"
          ><code>{{ one.key }}</code> <small class="soft">{{ one.words }}</small></ElOption
        >
      </ElOptionGroup>
    </ElSelect>
  </div>
</template>
