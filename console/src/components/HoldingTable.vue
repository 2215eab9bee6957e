<script setup lang="ts">
import { ElButton } from 'element-plus'
import { ref } from 'vue'
import { RouterLink } from 'vue-router'
import type { Holding } from '../api/types'
import { moment } from '../support/words'
import { texts } from '../texts/en'

/** Grants, soonest end first, with where they come from and how they stand. */
defineProps<{ items: Holding[]; at?: string; marked?: Set<string>; fixed?: boolean }>()
const emit = defineEmits<{ end: [string] }>()
const ending = ref<string>()

/** What ends something is asked for twice, in the same place. */
function end(id: string) {
  if (ending.value !== id) {
    ending.value = id
    return
  }
  ending.value = undefined
  emit('end', id)
}
const values = (given?: Record<string, unknown[]>) =>
  Object.entries(given ?? {})
    .map(([key, all]) => `${key} ${all.join(', ')}`)
    .join('; ')
</script>

<template>
  <table class="rows">
    <thead>
      <tr><th scope="col">Role</th><th scope="col">Holder</th><th scope="col">Given at</th><th scope="col">Until</th><th scope="col">Now</th><th v-if="!fixed" scope="col"><span class="visually-hidden">What to do</span></th></tr>
    </thead>
    <tbody>
      <tr v-for="{ grant, standing, why, members } in items" :key="grant.id" :class="{ marked: marked?.has(`${grant.role} ${grant.at}`) }">
        <td>
          <strong>{{ grant.role }}</strong> <code class="soft">{{ grant.id }}</code><br v-if="grant.values" /><span class="soft">{{ values(grant.values) }}</span>
        </td>
        <td>
          <RouterLink :to="{ name: 'entity', params: { name: grant.to } }" class="mono">{{ grant.to }}</RouterLink
          ><span v-if="members" class="soft"> ({{ members }})</span>
        </td>
        <td>
          <RouterLink v-if="grant.at !== 'everywhere'" :to="{ name: 'give', query: { at: grant.at } }" class="mono">{{ grant.at }}</RouterLink>
          <template v-else>everywhere</template>
          <span v-if="at && grant.at !== at" class="soft">, arrives here</span>
        </td>
        <td>{{ grant.until ? moment(grant.until) : 'no end' }}<template v-if="grant.from"><br /><span class="soft">from {{ moment(grant.from) }}</span></template></td>
        <td :class="standing">{{ texts.standings[standing] }}<template v-if="why">: {{ why }}</template></td>
        <td v-if="!fixed" class="do"><ElButton size="small" :aria-label="`End ${grant.id}: ${grant.role} of ${grant.to}`" @click="end(grant.id)" @blur="ending = undefined">{{ ending === grant.id ? 'End it now' : 'End' }}</ElButton></td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.do {
  text-align: right;
  padding-right: 0;
}
tr.marked td:first-child {
  border-left: 3px solid var(--undetermined);
  padding-left: 8px;
}
</style>
