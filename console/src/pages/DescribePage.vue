<script setup lang="ts">
import { defineAsyncComponent, nextTick, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { Defined } from '../api/types'
import DraftGate from '../components/DraftGate.vue'
import ImportForm from '../components/ImportForm.vue'
import PartTabs from '../components/PartTabs.vue'
import TypesForm from '../components/TypesForm.vue'
import TypesPicture from '../components/TypesPicture.vue'
import { useCharter } from '../composables/useCharter'
import { useDraft } from '../composables/useDraft'

/** What the applications protect: as forms, as text, and from a document. */
const CharterEditor = defineAsyncComponent(() => import('../components/CharterEditor.vue'))
const draft = useDraft()
const { model: live } = useCharter()
const route = useRoute()
const router = useRouter()
const editor = ref<{ goTo: (defined: Defined) => void }>()
/** What the cursor in the text stands in, which the form beside it shows. */
const shown = ref('')
const parts = [
  { part: '', text: 'Applications and types' },
  { part: 'text', text: 'Charter text' },
  { part: 'beside', text: 'Side by side' },
  { part: 'import', text: 'From a document' },
]

function follow([head, name]: string[]) {
  if (head === 'resource' || head === 'subject') shown.value = name ?? ''
  else if (head === 'tenant' || head === 'context') shown.value = head
}

async function show(defined: Defined) {
  if (route.params.part !== 'beside') await router.push({ name: 'describe', params: { part: 'text' } })
  for (let turn = 0; turn < 50 && !editor.value?.goTo; turn += 1) {
    await nextTick()
    await new Promise((done) => setTimeout(done, 20))
  }
  editor.value?.goTo(defined)
}
</script>

<template>
  <h1>Describe</h1>
  <PartTabs area="describe" label="Parts of Describe" :parts="parts" />
  <template v-if="!draft.draft.value && live">
    <TypesPicture :model="live" />
    <TypesForm v-if="!route.params.part" :live="live" />
  </template>
  <DraftGate what="Applications, what they protect, and what can be done to it.">
    <CharterEditor v-if="route.params.part === 'text'" ref="editor" />
    <div v-else-if="route.params.part === 'beside'" class="beside">
      <div><TypesForm beside :shown="shown" @go-to="show" /></div>
      <div><CharterEditor ref="editor" @table="follow" /></div>
    </div>
    <ImportForm v-else-if="route.params.part === 'import'" />
    <TypesForm v-else @go-to="show" />
  </DraftGate>
</template>

<style scoped>
.beside {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 16px;
  align-items: start;
}
.beside > * {
  container-type: inline-size;
}
.beside > :last-child {
  position: sticky;
  top: 16px;
}
@media (max-width: 900px) {
  .beside {
    grid-template-columns: 1fr;
  }
}
</style>
