<script setup lang="ts">
import { RouterLink } from 'vue-router'
import type { Shift } from '../support/rehearsed'
import { counted } from '../support/words'

/** Who gains and who loses, losers first; services stand above people. */
defineProps<{ shift: Shift }>()
</script>

<template>
  <section aria-labelledby="shift">
    <h3 id="shift">Who gains and who loses</h3>
    <p class="soft">{{ counted(shift.permissions.length, 'permission') }} could have changed, for {{ counted(shift.subjects, 'subject') }}; {{ counted(shift.asked, 'question') }} asked before and after.</p>
    <p v-if="!shift.lines.length">Nobody may do anything that they could not before, nor the other way round.</p>
    <div v-else class="wide">
      <table class="rows">
        <thead><tr><th scope="col">What</th><th scope="col">Who</th><th scope="col">On</th><th scope="col">Live</th><th scope="col">Draft</th></tr></thead>
        <tbody>
          <tr v-for="(line, n) in shift.lines" :key="n">
            <td><span :class="line.lost ? 'denied' : 'allowed'">{{ line.lost ? 'loses' : 'gains' }}</span> <code>{{ line.permission }}</code></td>
            <td>
              {{ counted(line.subjects, line.kind) }}:
              <template v-for="(who, at) in line.who.slice(0, 3)" :key="who.subject"><template v-if="at">, </template><RouterLink :to="{ name: 'try', query: { subject: who.subject, permission: line.permission, resource: who.on[0] === 'a new one' ? '' : (who.on[0] ?? ''), at: String(n) } }">{{ who.subject }}</RouterLink></template><template v-if="line.subjects > 3">, …</template>
            </td>
            <td>{{ counted(line.resources, 'resource') }}</td>
            <td>{{ line.before }}</td>
            <td>{{ line.after }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <template v-if="shift.unexamined.length">
      <h4>Not examined</h4>
      <ul><li v-for="line in shift.unexamined" :key="line">{{ line }}</li></ul>
    </template>
  </section>
</template>

<style scoped>
h3 {
  font-size: 16px;
  margin: 16px 0 4px;
}
p {
  margin: 4px 0;
}
.wide {
  overflow-x: auto;
}
td {
  vertical-align: top;
}
</style>
