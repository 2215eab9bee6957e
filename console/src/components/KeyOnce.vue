<script setup lang="ts">
import type { KeyMade } from '../api/types'
import CopyButton from './CopyButton.vue'

/** A key's text, shown this once. */
defineProps<{ made: KeyMade }>()
const emit = defineEmits<{ kept: [] }>()
</script>

<template>
  <ElAlert type="success" :closable="false" role="status" :title="`${made.key.name}: ${made.key.id}`">
    <p>Its text is shown this once. Keep it where the holder keeps secrets.</p>
    <p>
      <code class="secret">{{ made.text }}</code> <CopyButton :text="made.text" what="the key" />
    </p>
    <ElButton size="small" @click="emit('kept')">It is kept</ElButton>
  </ElAlert>
</template>

<style scoped>
.secret {
  overflow-wrap: anywhere;
}
</style>
