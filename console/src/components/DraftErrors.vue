<script setup lang="ts">
import { computed } from 'vue'
import { RouterLink, useRoute } from 'vue-router'
import { useDraft } from '../composables/useDraft'
import { counted } from '../support/words'

/** What is wrong with a draft's text, on every page that does not show the text itself. */
const MOST = 3
const route = useRoute()
const draft = useDraft()
const isText = computed(() => route.name === 'describe' && ['text', 'beside'].includes(String(route.params.part)))
const errors = computed(() => (draft.standing.value?.findings ?? []).filter((finding) => finding.severity === 'error'))
</script>

<template>
  <section v-if="errors.length && !isText" class="wrong" role="alert" aria-label="Errors of the draft">
    <div>
      <p v-for="finding in errors.slice(0, MOST)" :key="finding.at + finding.message">
        <code>{{ finding.at }}</code> {{ finding.message }}
      </p>
      <p v-if="errors.length > MOST">and {{ counted(errors.length - MOST, 'more error', 'more errors') }}</p>
    </div>
    <ElButton v-if="draft.before.value" size="small" @click="draft.takeBack">Take the last change back</ElButton>
    <RouterLink :to="{ name: 'describe', params: { part: 'text' } }">Mend it in the text</RouterLink>
  </section>
</template>

<style scoped>
.wrong {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 16px;
  align-items: center;
  padding: 8px 20px;
  background: var(--denied-ground);
  border-left: 3px solid var(--denied);
}
.wrong > div {
  flex: 1 1 400px;
}
p {
  margin: 0;
  overflow-wrap: anywhere;
}
</style>
