<script setup lang="ts">
import { computed } from 'vue'
import type { Asked, Proposal } from '../api/types'
import { texts } from '../texts/en'
import ConditionTable from './ConditionTable.vue'
import StakeMark from './StakeMark.vue'
import TheWay from './TheWay.vue'

const props = defineProps<{ asked: Asked; type: string; title: string }>()
const emit = defineEmits<{ suppose: [Proposal[]] }>()
const ways = computed(() => props.asked['would-take']?.ways ?? [])
/** What the question says of the resource is the application's to say, not to be supposed here. */
/** Said before any rule: what the register does not know. */
const unregistered = computed(() =>
  why.value.sentence.includes('not in the register') ? [] : why.value.ignored.filter((line) => line.includes('not in the register')),
)
const canSuppose = (way: Proposal[]) => way.every((change) => change.fact || change.context)
const why = computed(() => props.asked.explanation)
const kind = computed(() => (why.value.allowed ? 'allowed' : 'denied'))
const conditions = computed(() => [
  ...why.value.arrivals.flatMap((arrival) => arrival.conditions),
  ...why.value.rules.flatMap((rule) => rule.conditions),
])
const denying = computed(() =>
  why.value.rules.filter((rule) => rule.effect === 'deny').flatMap((rule) => rule.conditions.map((one) => one.of)),
)
const advice = computed(() => Object.entries(why.value.advice ?? {}))
</script>

<template>
  <article class="sheet" :aria-label="title" role="status">
    <p class="soft title">{{ title }}</p>
    <ElAlert v-for="line in unregistered" :key="line" type="warning" :closable="false" :title="line" />
    <p class="verdict" :class="kind">
      <StakeMark :kind="kind" :size="28" />
      <strong>{{ texts.answers[kind] }}</strong>
    </p>
    <p class="sentence">{{ why.sentence }}</p>
    <p class="soft">
      reason <code>{{ why.reason }}</code><template v-for="[key, text] in advice" :key="key">
        · {{ key }}: <code>{{ text }}</code></template
      >
    </p>
    <h2>The way</h2>
    <TheWay :way="why.way" :type="type" />
    <template v-if="conditions.length">
      <h2>Conditions</h2>
      <ConditionTable :conditions="conditions" :denying="denying" />
    </template>
    <template v-if="ways.length || asked['would-take']?.['denied-by']">
      <h2>What it would take</h2>
      <p v-if="asked['would-take']?.['denied-by']">
        The rule <code>{{ asked['would-take']['denied-by'] }}</code> denies, whatever roles there are.
      </p>
      <ul class="take">
        <li v-for="(way, at) in ways" :key="at">
          {{ way.map((change) => change.words).join(', and ') }}
          <ElButton v-if="canSuppose(way)" size="small" @click="emit('suppose', way)">Suppose this</ElButton>
        </li>
      </ul>
    </template>
    <template v-if="why.ignored.length || why['also-held'].length">
      <h2>Ignored or beside the point</h2>
      <ul>
        <li v-for="line in why.ignored" :key="line">{{ line }}</li>
        <li v-for="line in why['also-held']" :key="line">holds {{ line }}, which does not give it</li>
      </ul>
    </template>
    <slot />
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
.take {
  list-style: none;
  padding: 0;
}
.take li {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  align-items: baseline;
  border-bottom: 1px solid var(--rule);
  padding: 4px 0;
  overflow-wrap: anywhere;
}
.take button {
  flex: none;
}
ul {
  margin: 6px 0 0;
  padding-left: 18px;
}
</style>
