<script setup lang="ts">
import { computed, reactive, watch } from 'vue'
import type { EntityLine, Model, Property } from '../api/types'
import { numberOf } from '../support/json'
import MomentField from './MomentField.vue'
import NamesField from './NamesField.vue'
import PlaceField from './PlaceField.vue'

/** One entity by what its type declares; what the form does not know of its line stays as it is. */
const props = defineProps<{ model: Model; line: EntityLine; busy?: boolean }>()
const emit = defineEmits<{ write: [EntityLine] }>()
const kind = computed(() => props.line.entity.split(':')[0]!)
const type = computed(() => props.model.types.find((one) => one.key === kind.value))
const other = computed(() => props.model.others.find((one) => one.key === kind.value))
const stated = (one: Property) => one.from !== 'request'
const attributes = computed(() => (type.value ?? other.value)?.attributes.filter(stated) ?? [])
const relations = computed(() => (type.value ?? other.value)?.relations.filter(stated) ?? [])
const form = reactive({
  within: '',
  detached: false,
  suspended: false,
  attributes: {} as Record<string, string>,
  relations: {} as Record<string, string[]>,
})
const list = (value: unknown) => (value === undefined ? [] : (Array.isArray(value) ? value : [value]).map(String))

watch(
  () => props.line,
  (line) => {
    form.within = String(line.within ?? '')
    form.detached = line.detached === true
    form.suspended = line.state === 'suspended'
    form.attributes = Object.fromEntries(attributes.value.map((one) => [one.key, list(line.attributes?.[one.key]).join(', ')]))
    form.relations = Object.fromEntries(relations.value.map((one) => [one.key, list(line.relations?.[one.key])]))
  },
  { immediate: true },
)

/** A value as register lines have it: numbers and booleans bare, the rest as text. */
function valueOf(text: string, type: string): unknown {
  const trimmed = text.trim()
  if (type === 'integer' && /^-?\d+$/.test(trimmed)) return numberOf(trimmed)
  if (type === 'boolean' && ['true', 'false'].includes(trimmed)) return trimmed === 'true'
  return trimmed
}

function write() {
  const values = attributes.value.flatMap((one) => {
    const text = form.attributes[one.key] ?? ''
    if (!text.trim()) return []
    return [[one.key, one.many ? text.split(',').map((each) => valueOf(each, one.kind)) : valueOf(text, one.kind)] as const]
  })
  const ends = relations.value.flatMap((one) => (form.relations[one.key]?.length ? [[one.key, form.relations[one.key]!] as const] : []))
  const known = (all: Property[]) => new Set(all.map((one) => one.key))
  const rest = (said: Record<string, unknown> | undefined, all: Property[]) =>
    Object.entries(said ?? {}).filter(([key]) => !known(all).has(key))
  const { within: _, detached: __, state: ___, ...line } = props.line
  emit('write', {
    ...line,
    ...(form.within ? { within: form.within } : {}),
    ...(form.detached ? { detached: true } : {}),
    ...(form.suspended ? { state: 'suspended' } : {}),
    attributes: Object.fromEntries([...rest(props.line.attributes, attributes.value), ...values]),
    relations: Object.fromEntries([...rest(props.line.relations, relations.value), ...ends]) as Record<string, string[]>,
  })
}
</script>

<template>
  <ElForm label-position="top" :aria-label="`What is said of ${line.entity}`" @submit.prevent="write">
    <PlaceField v-if="type?.within.length" v-model="form.within" label="Within" name="within" :width="20" />
    <template v-for="one in attributes" :key="one.key">
      <MomentField v-if="one.kind === 'time' && !one.many" v-model="form.attributes[one.key]!" :label="one.key" placeholder="not stated" />
      <ElFormItem v-else :label="`${one.key} (${one.kind}${one.many ? ', several' : ''})`" :label-for="`attribute-${one.key}`">
        <ElSelect
          v-if="one.values?.length && !one.many"
          :id="`attribute-${one.key}`"
          v-model="form.attributes[one.key]"
          clearable
          :name="one.key"
          placeholder="not stated"
        >
          <ElOption v-for="value in one.values" :key="String(value)" :value="String(value)" :label="String(value)" />
        </ElSelect>
        <ElSelect
          v-else-if="one.kind === 'boolean' && !one.many"
          :id="`attribute-${one.key}`"
          v-model="form.attributes[one.key]"
          clearable
          :name="one.key"
          placeholder="not stated"
        >
          <ElOption value="true" label="true" />
          <ElOption value="false" label="false" />
        </ElSelect>
        <ElInput v-else :id="`attribute-${one.key}`" v-model="form.attributes[one.key]" :name="one.key" placeholder="not stated" />
      </ElFormItem>
    </template>
    <NamesField
      v-for="one in relations"
      :key="one.key"
      v-model="form.relations[one.key]!"
      :label="`${one.key} (${one.kind}${one.many ? ', several' : ''})`"
      :name="one.key"
      placeholder="not stated"
      :width="24"
      :types="one.kind.split(', ')"
    />
    <ElCheckbox v-if="type" v-model="form.detached">detached: roles from around it stop here</ElCheckbox>
    <ElCheckbox v-if="['user', 'service'].includes(kind)" v-model="form.suspended">suspended: denied before anything else</ElCheckbox>
    <p><ElButton native-type="submit" type="primary" :loading="busy">Write what the form says</ElButton></p>
  </ElForm>
</template>
