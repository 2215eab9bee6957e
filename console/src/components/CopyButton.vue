<script setup lang="ts">
import { ref } from 'vue'

/** Copies a name, a key or a command. */
const props = defineProps<{ text: string; what?: string }>()
const copied = ref(false)
let timer: ReturnType<typeof setTimeout> | undefined

async function copy() {
  try {
    await navigator.clipboard.writeText(props.text)
    copied.value = true
    clearTimeout(timer)
    timer = setTimeout(() => (copied.value = false), 2_000)
  } catch {
    // The browser does not let it; the text is there to be selected.
  }
}
</script>

<template>
  <ElTooltip :content="copied ? 'Copied' : `Copy ${what ?? text}`" :show-after="300">
    <ElButton link class="copy" :aria-label="`Copy ${what ?? text}`" @click="copy">{{ copied ? 'copied' : 'copy' }}</ElButton>
  </ElTooltip>
</template>

<style scoped>
.copy {
  font: 12px var(--sans);
  color: var(--soft);
}
</style>
