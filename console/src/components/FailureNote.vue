<script setup lang="ts">
import { computed } from 'vue'
import { Refused } from '../api/client'
import { useSession } from '../composables/useSession'

const props = defineProps<{ error: Error }>()
const session = useSession()
/** Where to show once more who one is; the page stays as it is. */
const again = computed(() => {
  const issuer = session.who.value?.issuer
  return issuer && props.error instanceof Refused && props.error.wantsSignIn ? `/sign-in/${issuer}?again=true` : ''
})
const parts = computed(() => (props.error instanceof Refused ? (props.error.problem.errors ?? []) : []))
</script>

<template>
  <div class="failure" role="alert">
    <p>
      {{ error.message }}
      <a v-if="again" :href="again" target="_blank" rel="noopener">Sign in again, in another tab</a>
    </p>
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
