<script setup lang="ts">
import { computed } from 'vue'
import { Refused } from '../api/client'

const props = defineProps<{ error: Error }>()
const parts = computed(() => (props.error instanceof Refused ? (props.error.problem.errors ?? []) : []))
</script>

<template>
  <div class="failure" role="alert">
    <p>{{ error.message }}</p>
    <ul v-if="parts.length > 1">
      <li v-for="part in parts" :key="part.at + part.detail">{{ part.at }}: {{ part.detail }}</li>
    </ul>
  </div>
</template>

<style scoped>
.failure {
  border-left: 3px solid var(--denied);
  background: var(--denied-ground);
  padding: 8px 14px;
}
p {
  margin: 0;
}
</style>
