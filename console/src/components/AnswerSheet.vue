<script setup lang="ts">
import { computed } from 'vue'
import type { Asked } from '../api/types'
import { texts } from '../texts/en'
import ConditionTable from './ConditionTable.vue'
import StakeMark from './StakeMark.vue'
import TheWay from './TheWay.vue'

const props = defineProps<{ asked: Asked; type: string; title: string }>()
const why = computed(() => props.asked.explanation)
const kind = computed(() => (why.value.allowed ? 'allowed' : 'denied'))
const conditions = computed(() => [
  ...why.value.arrivals.flatMap((arrival) => arrival.conditions),
  ...why.value.rules.flatMap((rule) => rule.conditions),
])
const advice = computed(() => Object.entries(why.value.advice ?? {}))
</script>

<template>
  <article class="sheet" :aria-label="title">
    <p class="soft title">{{ title }}</p>
    <p class="verdict" :class="kind">
      <StakeMark :kind="kind" :size="28" />
      <strong>{{ texts.answers[kind] }}</strong>
    </p>
    <p class="sentence">{{ why.sentence }}</p>
    <p class="soft">
      reason <code>{{ why.reason }}</code><template v-for="[key, text] in advice" :key="key"> · {{ key }}: <code>{{ text }}</code></template>
    </p>
    <h2>The way</h2>
    <TheWay :way="why.way" :type="type" />
    <template v-if="conditions.length">
      <h2>Conditions</h2>
      <ConditionTable :conditions="conditions" />
    </template>
    <template v-if="why.ignored.length || why['also-held'].length">
      <h2>Ignored or beside the point</h2>
      <ul>
        <li v-for="line in why.ignored" :key="line">{{ line }}</li>
        <li v-for="line in why['also-held']" :key="line">holds {{ line }}, which does not give it</li>
      </ul>
    </template>
  </article>
</template>

<style scoped>
p {
  margin: 0;
}
.title {
  margin-bottom: 6px;
}
.verdict {
  display: flex;
  align-items: center;
  gap: 10px;
  font-size: 24px;
}
.sentence {
  font: 20px/1.4 var(--serif);
  margin: 4px 0 6px;
  overflow-wrap: anywhere;
}
h2 {
  margin-top: 20px;
}
ul {
  margin: 6px 0 0;
  padding-left: 18px;
}
</style>
