<script setup lang="ts">
import { computed } from 'vue'
import { useDraft } from '../composables/useDraft'
import { useSession } from '../composables/useSession'
import { useStatus } from '../composables/useStatus'
import { counted } from '../support/words'

const session = useSession()
const status = useStatus()
const draft = useDraft()
const looking = computed(() => {
  const now = status.data.value
  if (!now) return status.error.value ? status.error.value.message : 'Reading how things stand …'
  if (!now.revision) return 'No charter is live'
  return `Live: ${now.charter} revision ${now.revision.number}, position ${now.position}`
})
const writing = computed(() => {
  const own = draft.draft.value
  if (!own) return ''
  const count = draft.standing.value?.changes.length
  const changes = draft.errors.value
    ? `, ${counted(draft.errors.value, 'error')}`
    : count === undefined
      ? ''
      : count
        ? `, ${counted(count, 'change')}`
        : ', no change yet'
  return `Draft ${own.id}, ${own.base === null || own.base === undefined ? 'from nothing' : `based on ${own.base}`}${changes}`
})
</script>

<template>
  <header>
    <strong>Ostrog</strong>
    <span role="status">{{ looking }}</span>
    <span v-if="writing" class="draft">{{ writing }} <ElButton link @click="draft.leave">Leave it</ElButton></span>
    <span class="who" :title="session.who.value?.issuer ? `signed in with ${session.who.value.issuer}` : 'signed in with a key'">{{
      session.who.value?.name
    }}</span>
    <ElButton link class="out" @click="session.signOut">Sign out</ElButton>
  </header>
</template>

<style scoped>
header {
  display: flex;
  gap: 2px 16px;
  align-items: baseline;
  padding: 8px 20px;
  background: var(--sheet);
  border-bottom: 1px solid var(--rule);
}
strong {
  letter-spacing: 0.02em;
}
.draft {
  color: var(--draft);
}
.who {
  margin-left: auto;
  color: var(--soft);
}
header {
  flex-wrap: wrap;
}
</style>
