<script setup lang="ts">
import CopyButton from './CopyButton.vue'

/** What is done here, as one line for a terminal. */
defineProps<{ line: string }>()
</script>

<template>
  <p class="command">
    <span class="soft">As a command</span> <code>{{ line }}</code> <CopyButton :text="line" what="the command" />
  </p>
</template>

<style scoped>
.command {
  margin: 8px 0 0;
  overflow-wrap: anywhere;
}
</style>
