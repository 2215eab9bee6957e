<script setup lang="ts">
import type { LoadFunction } from 'element-plus'
import { ref, useId } from 'vue'
import { api } from '../api/calls'

/** A place: what lies within what, opened step by step; or found by a part of its name. */
defineProps<{ label: string; width: number; name?: string }>()
const model = defineModel<string>({ required: true })
const id = useId()
interface Place {
  value: string
  label: string
  isLeaf?: boolean
}
const place = (value: string): Place => ({ value, label: value })
const everywhere: Place = { value: 'everywhere', label: 'everywhere', isLeaf: true }
const found = ref<Place[]>([])
let roots: Place[] = []

async function begin() {
  const tenants = await api.entities('tenant:', 50).catch(() => ({ items: [] }))
  roots = [everywhere, ...tenants.items.map((one) => place(one.entity))]
  found.value = roots
}
void begin()

const open: LoadFunction = async (node, resolve) => {
  if (node.level === 0) return resolve(found.value as never)
  const around = await api.around((node.data as Place).value).catch(() => undefined)
  resolve((around?.inside ?? []).map((one) => place(one.name)) as never)
}

let asked = 0
async function search(text: string) {
  const own = ++asked
  if (!text.trim()) {
    found.value = roots
    return
  }
  const page = await (text.includes(':') ? api.entities(text, 20) : api.entities('', 20, { containing: text })).catch(() => ({ items: [] }))
  const places = page.items.map((one) => one.entity).filter((name) => !/^(user|service|group):/.test(name))
  if (own === asked) found.value = places.map(place)
}
</script>

<template>
  <div class="labelled" :style="{ width: `${width}em` }">
    <label :for="id">{{ label }}</label>
    <ElTreeSelect
      :id="id"
      v-model="model"
      :data="found"
      :name="name"
      lazy
      :load="open"
      check-strictly
      filterable
      remote
      :remote-method="search"
      node-key="value"
      :props="{ label: 'label', isLeaf: 'isLeaf' }"
      placeholder="everywhere, tenant:northline"
    />
  </div>
</template>
