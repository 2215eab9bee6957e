<script setup lang="ts">
import { useRoute, useRouter } from 'vue-router'

/** The parts of an area, one shown at a time; the address says which. */
const props = defineProps<{ area: string; label: string; parts: { part: string; text: string }[] }>()
const route = useRoute()
const router = useRouter()
const go = (part: string | number) => void router.push({ name: props.area, params: { part: part === 'first' ? '' : String(part) } })
</script>

<template>
  <ElTabs :model-value="String(route.params.part ?? '') || 'first'" :aria-label="label" @update:model-value="go">
    <ElTabPane v-for="one in parts" :key="one.part" :name="one.part || 'first'" :label="one.text" />
  </ElTabs>
</template>
