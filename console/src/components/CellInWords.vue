<script setup lang="ts">
import { watch } from 'vue'
import { RouterLink } from 'vue-router'
import { api } from '../api/calls'
import type { Cell, Grid, GridRow } from '../api/types'
import { useAsync } from '../composables/useAsync'
import { counted } from '../support/words'

/** One cell of the roles grid in words: what it says, under which conditions, and how many it reaches. */
const props = defineProps<{
  row: GridRow
  cell: Cell
  column: Grid['actions'][number]
  /** What the role that is laid over says. */
  beside: string[]
  /** What live says, where the draft says something else. */
  was?: string
}>()
const reached = useAsync(api.reached)
watch(
  () => props.row.role,
  (role) => void reached.run(role),
  { immediate: true },
)
</script>

<template>
  <aside class="sheet" aria-live="polite" aria-label="The cell in words">
    <h2>{{ row.name }} <RouterLink class="all" :to="{ name: 'role', params: { role: row.role } }">all of it</RouterLink></h2>
    <p v-if="row.description" class="soft">{{ row.description }}</p>
    <p class="sentence">{{ cell.text }}.</p>
    <p v-if="was !== undefined" class="was">Live: {{ was }}.</p>
    <p v-for="text in beside" :key="text" class="sentence">{{ text }}.</p>
    <p v-if="row['given-to']">Given to {{ row['given-to'] }}, without a grant.</p>
    <p v-if="row.includes.length">Includes {{ row.includes.join(', ') }}.</p>
    <p v-if="reached.data.value">
      {{ reached.data.value.whole ? '' : 'More than ' }}{{ counted(reached.data.value.subjects, 'subject') }} by
      {{ counted(reached.data.value.grants, 'grant') }} of it, or of a role that includes it.
    </p>
    <template v-if="cell.conditions.length">
      <h3>Only when</h3>
      <p v-for="condition in cell.conditions" :key="condition">
        <code>{{ condition }}</code>
      </p>
    </template>
    <template v-if="column.denies.length">
      <h3 class="denied">Above all roles, denied by</h3>
      <p v-for="rule in column.denies" :key="rule">
        <RouterLink :to="{ name: 'refine', params: { part: 'rules' }, query: { rule } }"
          ><code>{{ rule }}</code></RouterLink
        >
      </p>
    </template>
    <template v-if="column.allows.length">
      <h3 class="allowed">Beside the roles, allowed by</h3>
      <p v-for="rule in column.allows" :key="rule">
        <code>{{ rule }}</code>
      </p>
    </template>
    <slot />
  </aside>
</template>

<style scoped>
aside {
  position: sticky;
  top: 0;
}
p {
  margin: 4px 0;
  overflow-wrap: anywhere;
}
.all {
  float: right;
  font: 14px var(--sans);
}
.sentence {
  font: 16px/1.45 var(--serif);
}
.was {
  color: var(--draft);
}
h3 {
  font-size: 14px;
  margin-top: 12px;
}
</style>
