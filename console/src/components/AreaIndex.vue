<script setup lang="ts">
import { RouterLink, useRoute } from 'vue-router'
import { texts } from '../texts/en'

const route = useRoute()
/** An entity is of the register, one role of the roles, a review of what goes live. */
const within: Record<string, string> = { entity: 'register', role: 'roles', review: 'rollout' }
const current = (name: string) => route.name === name || within[String(route.name)] === name
const areas = (Object.keys(texts.areas) as (keyof typeof texts.areas)[]).map((name) => ({ name, to: { name }, text: texts.areas[name] }))
</script>

<template>
  <nav aria-label="Areas">
    <RouterLink v-for="area in areas" :key="area.text" :to="area.to" :class="{ current: current(area.name) }">{{ area.text }}</RouterLink>
  </nav>
</template>

<style scoped>
nav {
  display: flex;
  flex-direction: column;
  padding: 24px 0 0 20px;
  gap: 2px;
}
a {
  text-decoration: none;
  padding: 4px 8px;
  border-left: 2px solid transparent;
}
a:hover {
  text-decoration: underline;
}
a.current {
  border-left-color: var(--ink);
  font-weight: 700;
}
@media (max-width: 760px) {
  nav {
    flex-direction: row;
    flex-wrap: wrap;
    padding: 8px 12px 0;
  }
}
</style>
