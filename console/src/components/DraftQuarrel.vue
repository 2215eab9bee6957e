<script setup lang="ts">
import { diffLines } from 'diff'
import { computed, ref } from 'vue'
import { useDraft } from '../composables/useDraft'
import FailureNote from './FailureNote.vue'

/** Two texts of one draft, what became of it elsewhere, and whatever else went wrong with it: settled on any page. */
const draft = useDraft()
const comparing = ref(false)
/** Where the two differ, file by file; what is alike is left out but for a line. */
const apart = computed(() => {
  const theirs = draft.other.value?.files ?? []
  const paths = [...new Set([...draft.files.value, ...theirs].map((file) => file.path))].sort()
  const textOf = (files: { path: string; text: string }[], path: string) => files.find((file) => file.path === path)?.text ?? ''
  return paths
    .map((path) => ({ path, parts: pairs(textOf(draft.files.value, path), textOf(theirs, path)) }))
    .filter((file) => file.parts.length)
})

function pairs(mine: string, theirs: string): { mine: string; theirs: string }[] {
  const all: { mine: string; theirs: string }[] = []
  let open: { mine: string; theirs: string } | undefined
  for (const part of diffLines(mine, theirs)) {
    if (!part.added && !part.removed) {
      open = undefined
      continue
    }
    if (!open) all.push((open = { mine: '', theirs: '' }))
    if (part.added) open.theirs += part.value
    else open.mine += part.value
  }
  return all
}

async function overwrite() {
  comparing.value = false
  await draft.overwrite()
}
function takeTheirs() {
  comparing.value = false
  draft.yieldToOther()
}
</script>

<template>
  <section v-if="draft.ended.value" class="quarrel" role="alert" aria-label="Ended elsewhere">
    <p>
      {{ draft.draft.value?.id }} {{ draft.ended.value === 'discarded' ? 'was discarded elsewhere' : 'went live elsewhere, or has ended' }}.
      Your text is still here.
    </p>
    <ElButton v-if="draft.ended.value === 'discarded'" size="small" @click="draft.bringBack">Take it back</ElButton>
    <ElButton size="small" @click="draft.saveAnew">Go on as a new draft</ElButton>
    <ElButton size="small" @click="draft.leave">Leave it</ElButton>
  </section>
  <section v-else-if="draft.other.value" class="quarrel" role="alert" aria-label="Two texts">
    <p>Somebody saved {{ draft.other.value.draft.id }} since you read it. Your text is still here.</p>
    <ElButton size="small" @click="comparing = true">Lay them side by side</ElButton>
    <ElDialog v-model="comparing" title="Mine, and theirs" width="min(1000px, calc(100vw - 24px))" append-to-body>
      <p v-if="!apart.length">They say the same.</p>
      <section v-for="file in apart" :key="file.path" :aria-label="file.path">
        <h3 class="mono">{{ file.path }}</h3>
        <div v-for="(part, at) in file.parts" :key="at" class="two">
          <pre aria-label="Mine">{{ part.mine || '(nothing here)' }}</pre>
          <pre aria-label="Theirs">{{ part.theirs || '(nothing here)' }}</pre>
        </div>
      </section>
      <template #footer>
        <ElButton @click="comparing = false">Not yet</ElButton>
        <ElButton @click="takeTheirs">Take theirs</ElButton>
        <ElButton @click="overwrite">Save mine over it</ElButton>
      </template>
    </ElDialog>
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
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 8px;
  margin: 6px 0;
}
pre {
  font: 12px/1.5 var(--mono);
  margin: 0;
  padding: 6px 8px;
  background: var(--ground);
  border: 1px solid var(--rule);
  overflow-x: auto;
}
h3 {
  font-size: 14px;
}
</style>
