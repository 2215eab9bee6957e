<script setup lang="ts">
import { computed } from 'vue'
import { useNarrowed } from '../composables/useNarrowed'
import { sinceThen, wrong, type CaseFound, type Rehearsed } from '../support/rehearsed'
import { counted } from '../support/words'
import NarrowField from './NarrowField.vue'
import ShiftTable from './ShiftTable.vue'

/** What a rehearsal found: failures first, then losers. */
const props = defineProps<{ number: number; found: Rehearsed; before?: Rehearsed }>()
const failed = computed(() => props.found.cases.filter((one) => !one.passed))
const broken = computed(() => props.found.guarantees.filter((one) => one.outcome !== 'proved'))
const doubtful = computed(() => props.found.cases.filter((one) => one.passed && one.checks.some((check) => check.doubt)))
const changed = computed(() => (props.before ? sinceThen(props.found, props.before) : []))
const { narrow, shown } = useNarrowed(
  computed(() => props.found.cases),
  (one) =>
    `${one.name} ${one.place} ${one.checks.map((check) => `${check.subject} ${check.permission} ${check.resource ?? ''}`).join(' ')}`,
)
const untouched = computed(() => [...props.found.coverage.rules, ...props.found.coverage.clauses, ...props.found.coverage.roles])
</script>

<template>
  <p class="links">
    <a :href="`/api/v1/rehearsals/${number}/page`" target="_blank" rel="noopener">Open the report</a>
    <a :href="`/api/v1/rehearsals/${number}/page`" :download="`rehearsal-${number}.html`">Download it</a>
    <a :href="`/api/v1/rehearsals/${number}/junit`" :download="`rehearsal-${number}.xml`">JUnit XML</a>
    <a :href="`/api/v1/rehearsals/${number}`" :download="`rehearsal-${number}.json`">JSON</a>
  </p>
  <section v-if="before" aria-labelledby="since">
    <h3 id="since">Since the run before</h3>
    <p v-if="!changed.length" class="soft">Everything came out as it did.</p>
    <ul>
      <li v-for="line in changed" :key="line">{{ line }}</li>
    </ul>
  </section>
  <section v-if="broken.length" aria-labelledby="broken">
    <h3 id="broken">Guarantees that do not hold</h3>
    <article v-for="one in broken" :key="one.name">
      <h4>
        <span :class="one.outcome === 'undecided' ? 'undetermined' : 'denied'">{{ one.outcome }}</span> {{ one.name }}
      </h4>
      <p>
        <code>{{ one.claim }}</code><template v-if="one.when">
          when <code>{{ one.when }}</code></template
        >
      </p>
      <p v-if="one.why">{{ one.why }}.</p>
      <template v-if="one.told?.length">
        <p class="sentence">{{ one.told[0] }}</p>
        <ul>
          <li v-for="line in one.told.slice(1)" :key="line">{{ line }}</li>
        </ul>
      </template>
      <details v-if="one.sample">
        <summary>As samples and a case</summary>
        <pre>{{ one.sample }}</pre>
      </details>
    </article>
  </section>
  <section v-if="failed.length" aria-labelledby="failed">
    <h3 id="failed">Cases that fail</h3>
    <article v-for="one in failed" :key="one.name">
      <h4>
        <span class="denied">failed</span> {{ one.name }} <span class="soft">{{ one.place }}</span>
      </h4>
      <p v-for="check in one.checks.filter((check) => !check.passed)" :key="check.permission" class="sentence">{{ wrong(check) }}</p>
    </article>
  </section>
  <ShiftTable v-if="found.shift" :shift="found.shift" />
  <details v-if="found.cases.length">
    <summary>{{ counted(found.cases.length, 'case') }}</summary>
    <NarrowField v-model="narrow" :shown="shown.length" :of="found.cases.length" what="cases" />
    <ElTable :data="shown" max-height="480" row-key="name">
      <ElTableColumn label="Outcome" prop="passed" sortable width="130">
        <template #default="{ row }: { row: CaseFound }"
          ><span :class="row.passed ? 'allowed' : 'denied'">{{ row.passed ? 'passes' : 'fails' }}</span></template
        >
      </ElTableColumn>
      <ElTableColumn label="Case" prop="name" sortable min-width="260">
        <template #default="{ row }: { row: CaseFound }"
          >{{ row.name }}<br /><span class="soft">{{ row.place }}</span></template
        >
      </ElTableColumn>
      <ElTableColumn label="Asks" min-width="300">
        <template #default="{ row }: { row: CaseFound }"
          ><div v-for="check in row.checks" :key="check.permission">
            <code>{{ check.subject }}</code> {{ check.expected ? 'may' : 'may not' }} <code>{{ check.permission }}</code><template
              v-if="check.resource"
            >
              on <code>{{ check.resource }}</code></template
            >
          </div></template
        >
      </ElTableColumn>
    </ElTable>
  </details>
  <details v-if="doubtful.length">
    <summary>{{ counted(doubtful.length, 'case') }} {{ doubtful.length === 1 ? 'passes and proves' : 'pass and prove' }} little</summary>
    <ul>
      <li v-for="one in doubtful" :key="one.name">{{ one.name }}: {{ one.checks.find((check) => check.doubt)?.doubt }}</li>
    </ul>
  </details>
  <details v-if="untouched.length">
    <summary>{{ counted(untouched.length, 'rule, clause or role is', 'rules, clauses and roles are') }} touched by nothing</summary>
    <ul>
      <li v-for="one in untouched" :key="one">{{ one }}</li>
    </ul>
  </details>
  <details v-if="found.coverage.removable.length">
    <summary>{{ counted(found.coverage.removable.length, 'part') }} could be left out with every case still passing</summary>
    <ul>
      <li v-for="one in found.coverage.removable" :key="one">{{ one }}</li>
    </ul>
  </details>
</template>

<style scoped>
.links {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 16px;
}
.links a {
  display: inline-block;
  min-height: 24px;
}
article {
  border-left: 3px solid var(--denied);
  padding: 2px 0 2px 12px;
  margin: 10px 0;
}
h3 {
  font-size: 16px;
  margin: 16px 0 4px;
}
h4 {
  font-size: 14px;
  margin: 0;
}
h4 .soft {
  font-weight: 400;
}
p,
ul {
  margin: 4px 0;
}
.sentence {
  font: 16px/1.5 var(--serif);
}
pre {
  font: 12px/1.5 var(--mono);
  overflow-x: auto;
}
summary {
  cursor: pointer;
  min-height: 24px;
}
</style>
