<script setup lang="ts">
import type { RouteLocationRaw } from 'vue-router'
import { RouterLink } from 'vue-router'
import type { Station } from '../api/types'
import { texts } from '../texts/en'

const props = defineProps<{ way: Station[]; type: string }>()

/** Each station leads to the fact it stands for. */
function link(station: Station, at: number): RouteLocationRaw | undefined {
  switch (station.kind) {
    case 'subject':
    case 'group':
    case 'place':
      return station.name.includes(':') ? { name: 'entity', params: { name: station.name } } : undefined
    case 'grant': {
      // A grant is shown with whoever holds it: the station before.
      const holder = props.way[at - 1]?.name
      return holder?.includes(':') ? { name: 'entity', params: { name: holder } } : undefined
    }
    case 'role':
      return { name: 'roles', params: { type: props.type }, query: { role: station.name } }
    case 'rule':
    case 'permission':
      return { name: 'roles', params: { type: props.type } }
  }
}
</script>

<template>
  <ol>
    <li v-for="(station, at) in way" :key="at" :class="{ shut: station.shut }">
      <span class="kind">{{ texts.stations[station.kind] }}</span>
      <span>
        <RouterLink v-if="link(station, at)" :to="link(station, at)!" class="mono">{{ station.name }}</RouterLink>
        <span v-else class="mono">{{ station.name }}</span>
        <span v-if="station.note" class="note">{{ station.note }}</span>
        <strong v-if="station.shut" class="denied"> shut here</strong>
      </span>
    </li>
  </ol>
</template>

<style scoped>
ol {
  list-style: none;
  margin: 8px 0 0;
  padding: 0;
}
li {
  display: grid;
  grid-template-columns: 92px 1fr;
  padding: 4px 0 4px 14px;
  border-left: 2px solid var(--ink);
  position: relative;
}
li::before {
  content: '';
  position: absolute;
  left: -5px;
  top: 11px;
  width: 8px;
  height: 8px;
  background: var(--ink);
}
li.shut {
  border-bottom: 3px solid var(--denied);
  background: var(--denied-ground);
}
li.shut ~ li {
  border-left: 2px dashed var(--edge);
  color: var(--soft);
}
li.shut ~ li::before {
  background: var(--edge);
}
.kind {
  color: var(--soft);
}
.note {
  margin-left: 10px;
  overflow-wrap: anywhere;
}
</style>
