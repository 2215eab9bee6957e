<script setup lang="ts">
import { computed, onMounted } from 'vue'
import { useRoute } from 'vue-router'
import { api } from '../api/calls'
import FailureNote from '../components/FailureNote.vue'
import IssuersPanel from '../components/IssuersPanel.vue'
import KeysPanel from '../components/KeysPanel.vue'
import PartTabs from '../components/PartTabs.vue'
import RoutesPanel from '../components/RoutesPanel.vue'
import TokensPanel from '../components/TokensPanel.vue'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'

/** How applications and operators come in: their keys, their routes, what their interfaces show. */
const route = useRoute()
const draft = useDraft()
const live = useAsync(() => api.model())
const model = computed(() => draft.model.value ?? live.data.value)
const parts = [
  { part: '', text: 'Keys' },
  { part: 'issuers', text: 'Issuers' },
  { part: 'tokens', text: 'Tokens' },
  { part: 'routes', text: 'Routes and affordances' },
]
onMounted(live.run)
</script>

<template>
  <h1>Connect</h1>
  <PartTabs area="connect" label="Parts of Connect" :parts="parts" />
  <KeysPanel v-if="!route.params.part" />
  <FailureNote v-else-if="live.error.value" :error="live.error.value" />
  <ElSkeleton v-else-if="!model" :rows="4" animated />
  <RoutesPanel v-else-if="route.params.part === 'routes'" :model="model" />
  <IssuersPanel v-else-if="route.params.part === 'issuers'" :model="model" />
  <TokensPanel v-else :model="model" />
</template>
