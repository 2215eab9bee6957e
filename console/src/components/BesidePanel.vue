<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api } from '../api/calls'
import type { Holding, Holdings } from '../api/types'
import FailureNote from './FailureNote.vue'
import HoldingTable from './HoldingTable.vue'
import NameField from './NameField.vue'
import { useAsync } from '../composables/useAsync'

/** Two subjects and what reaches each; what only one of them has is marked. */
const route = useRoute()
const router = useRouter()
const first = ref('')
const second = ref('')
const one = useAsync((by: string) => api.holdings({ by, limit: 1000 }))
const two = useAsync((by: string) => api.holdings({ by, limit: 1000 }))
const key = (holding: Holding) => `${holding.grant.role} ${holding.grant.at}`
const only = (own?: Holdings, other?: Holdings) => {
  const theirs = new Set(other?.items.map(key))
  return new Set(other && own?.items.map(key).filter((known) => !theirs.has(known)))
}
const sides = computed(() => [
  { name: String(route.query.by ?? ''), shown: one, marked: only(one.data.value, two.data.value) },
  { name: String(route.query.and ?? ''), shown: two, marked: only(two.data.value, one.data.value) },
])

watch(
  () => [route.query.by, route.query.and],
  ([by, and]) => {
    first.value = String(by ?? '')
    second.value = String(and ?? '')
    if (by) void one.run(String(by))
    if (and) void two.run(String(and))
    else two.clear()
  },
  { immediate: true },
)

function show() {
  void router.push({ query: { by: first.value.trim(), ...(second.value.trim() ? { and: second.value.trim() } : {}) } })
}
</script>

<template>
  <form class="plain line" aria-label="Subjects" @submit.prevent="show">
    <NameField v-model="first" label="Subject" placeholder="user:ines" :width="16" />
    <NameField v-model="second" label="Beside" placeholder="user:rui" :width="16" />
    <ElButton type="primary" native-type="submit" :disabled="!first.includes(':')">Show</ElButton>
  </form>
  <div class="two">
    <section v-for="side in sides.filter((side) => side.name)" :key="side.name" class="sheet" :aria-label="side.name">
      <h2 class="mono">{{ side.name }}</h2>
      <FailureNote v-if="side.shown.error.value" :error="side.shown.error.value" />
      <template v-else-if="side.shown.data.value">
        <p class="soft">{{ side.shown.data.value.from.slice(1).join(', ') || 'in no group' }}</p>
        <p v-if="!side.shown.data.value.items.length">Holds nothing by a grant.</p>
        <HoldingTable v-else :items="side.shown.data.value.items" :marked="side.marked" fixed />
      </template>
    </section>
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(460px, 100%), 1fr));
  gap: 16px;
  margin-top: 16px;
}
section {
  overflow-x: auto;
}
p {
  margin: 4px 0;
}
</style>
