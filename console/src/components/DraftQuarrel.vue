<script setup lang="ts">
import { ElButton } from 'element-plus'
import { useDraft } from '../composables/useDraft'
import FailureNote from './FailureNote.vue'

/** Two texts of one draft, and whatever else went wrong with it: settled on any page. */
const draft = useDraft()
</script>

<template>
  <section v-if="draft.other.value" class="quarrel" role="alert" aria-label="Two texts">
    <p>Somebody saved {{ draft.other.value.draft.id }} since you read it. Your text is still here.</p>
    <ElButton size="small" @click="draft.overwrite">Save mine over it</ElButton>
    <ElButton size="small" @click="draft.yield">Take theirs</ElButton>
  </section>
  <FailureNote v-else-if="draft.draft.value && draft.error.value" :error="draft.error.value" />
</template>

<style scoped>
.quarrel {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
  padding: 8px 20px;
  background: var(--undetermined-ground);
  border-left: 3px solid var(--undetermined);
}
p {
  flex: 1;
  margin: 0;
}
</style>
