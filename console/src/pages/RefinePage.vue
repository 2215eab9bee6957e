<script setup lang="ts">
import { computed, onMounted } from 'vue'
import { useRoute } from 'vue-router'
import { api } from '../api/calls'
import ConfersPanel from '../components/ConfersPanel.vue'
import FailureNote from '../components/FailureNote.vue'
import NamedPanel from '../components/NamedPanel.vue'
import PartTabs from '../components/PartTabs.vue'
import PicturePanel from '../components/PicturePanel.vue'
import RulesPanel from '../components/RulesPanel.vue'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'

const route = useRoute()
const draft = useDraft()
const live = useAsync(() => api.model())
const parts = [
  { part: '', text: 'Relationships' },
  { part: 'rules', text: 'Rules' },
  { part: 'confers', text: 'Confers and separations' },
  { part: 'conditions', text: 'Conditions' },
]
/** In a draft, what its text says as it is written; else what is live. */
const model = computed(() => draft.model.value ?? live.data.value)
onMounted(live.run)
</script>

<template>
  <h1>Refine</h1>
  <PartTabs area="refine" label="Parts of Refine" :parts="parts" />
  <FailureNote v-if="live.error.value" :error="live.error.value" />
  <p v-else-if="!model" class="soft">Reading the charter …</p>
  <template v-else>
    <RulesPanel v-if="route.params.part === 'rules'" :model="model" />
    <ConfersPanel v-else-if="route.params.part === 'confers'" :model="model" />
    <NamedPanel v-else-if="route.params.part === 'conditions'" :model="model" />
    <PicturePanel v-else :model="model" />
  </template>
</template>
