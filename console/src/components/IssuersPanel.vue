<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { api } from '../api/calls'
import type { IssuerShown, Model } from '../api/types'
import AskFirst from './AskFirst.vue'
import FailureNote from './FailureNote.vue'
import DraftGate from './DraftGate.vue'
import IssuerForm from './IssuerForm.vue'
import IssuerMeaning from './IssuerMeaning.vue'
import { useAsync } from '../composables/useAsync'
import { counted, moment } from '../support/words'

/** Whose tokens count, where their keys are had, and what their tokens mean. */
const props = defineProps<{ model: Model }>()
const issuers = useAsync(api.issuers)
const ended = useAsync(api.endIssuer)
const attempt = useAsync(api.tryIssuer)
const tried = ref('')
const ending = ref<IssuerShown>()
const isEnding = computed({ get: () => Boolean(ending.value), set: (open: boolean) => void (open || (ending.value = undefined)) })
/** Those of the charter that nobody has set up: their tokens are refused. */
const missing = computed(() => props.model.issuers.filter((one) => !issuers.data.value?.some((known) => known.key === one.key)))
const told = (one: IssuerShown) => {
  const used = one.keys.filter((key) => !key.skipped).length
  if (!one['keys-since']) return one.failed ?? 'none yet'
  return `${counted(used, 'key')}, had ${moment(one['keys-since'])}`
}

onMounted(issuers.run)

async function tryIt(one: IssuerShown) {
  tried.value = one.key
  if (await attempt.run(one.key)) await issuers.run()
}
async function end(one: IssuerShown) {
  const done = await ended.run(one.key)
  ending.value = undefined
  if (done) await issuers.run()
}
</script>

<template>
  <p class="lead">Whose tokens count is set up here, by owners. What they mean stands in the charter, and is rehearsed like the rest.</p>
  <FailureNote v-if="ended.error.value" :error="ended.error.value" />
  <section class="sheet" aria-labelledby="issuers">
    <h2 id="issuers">Issuers</h2>
    <FailureNote v-if="issuers.error.value" :error="issuers.error.value" />
    <ElSkeleton v-else-if="!issuers.data.value" :rows="2" animated />
    <template v-else>
      <ElAlert v-for="one in missing" :key="one.key" type="warning" :closable="false" show-icon>
        The charter says what tokens of {{ one.name }} (<code>{{ one.key }}</code
        >) mean, but it is not set up: they are refused.
      </ElAlert>
      <ElTable :data="issuers.data.value" row-key="key" empty-text="None yet: every token is refused.">
        <ElTableColumn label="Issuer" min-width="200">
          <template #default="{ row }: { row: IssuerShown }"
            ><code>{{ row.key }}</code
            ><br /><span class="soft url">{{ row.url }}</span
            ><br v-if="!row['in-charter']" /><span v-if="!row['in-charter']" class="denied">not in the live charter</span></template
          >
        </ElTableColumn>
        <ElTableColumn label="For" min-width="240">
          <template #default="{ row }: { row: IssuerShown }"
            ><div v-for="(all, application) in row.audiences" :key="application">
              {{ application }} <code class="soft">{{ all.join(', ') }}</code>
            </div>
            <div v-if="row.client">
              operators <code class="soft">{{ row.client }}</code>
              <span v-if="row.waits" class="denied">once another has approved it</span>
            </div></template
          >
        </ElTableColumn>
        <ElTableColumn label="Keys" min-width="150">
          <template #default="{ row }: { row: IssuerShown }"
            ><span :class="{ denied: row.failed }">{{ told(row) }}</span></template
          >
        </ElTableColumn>
        <ElTableColumn label="Last refused" min-width="170">
          <template #default="{ row }: { row: IssuerShown }"
            ><template v-if="row.refused"
              >{{ row.refused.why }}<br /><span class="soft">{{ moment(row.refused.at) }}</span></template
            ><span v-else class="soft">nothing yet</span></template
          >
        </ElTableColumn>
        <ElTableColumn label="" width="140" align="right">
          <template #default="{ row }: { row: IssuerShown }">
            <ElButton size="small" :aria-label="`Try ${row.key}`" :loading="attempt.busy.value && tried === row.key" @click="tryIt(row)"
              >Try</ElButton
            >
            <ElButton size="small" :aria-label="`End ${row.key}`" @click="ending = row">End</ElButton>
          </template>
        </ElTableColumn>
      </ElTable>
      <p class="soft">What is told here is this node’s: each keeps the keys by itself.</p>
    </template>
  </section>

  <section v-if="attempt.data.value || attempt.error.value" class="sheet" aria-labelledby="tried" aria-live="polite">
    <h2 id="tried">What trying {{ tried }} found</h2>
    <FailureNote v-if="attempt.error.value" :error="attempt.error.value" />
    <template v-if="attempt.data.value">
      <ol class="steps">
        <li v-for="step in attempt.data.value.steps" :key="step.what" :class="step.ok ? 'allowed' : 'denied'">
          {{ step.what }}: {{ step.ok ? '' : 'no; ' }}{{ step.words }}
        </li>
      </ol>
      <ElTable v-if="attempt.data.value.keys.length" :data="attempt.data.value.keys" row-key="place">
        <ElTableColumn label="Place" prop="place" width="80" />
        <ElTableColumn label="kid" prop="kid" min-width="140" />
        <ElTableColumn label="Verifies" min-width="140"
          ><template #default="{ row }">{{ row.algorithms.join(', ') }}</template></ElTableColumn
        >
        <ElTableColumn label="Skipped" prop="skipped" min-width="200" />
      </ElTable>
    </template>
  </section>

  <section v-for="one in model.issuers" :key="one.key" class="sheet" :aria-labelledby="`means-${one.key}`">
    <h2 :id="`means-${one.key}`">What tokens of {{ one.name }} mean</h2>
    <p class="soft">
      <code>[issuer.{{ one.key }}]</code>, with questions of {{ one.applications.join(', ') }}. A bearer who is not registered counts as
      {{ one.signed_in ? 'signed in' : 'anonymous' }}.
    </p>
    <ElTable :data="one.claims">
      <ElTableColumn label="Claim" min-width="160"
        ><template #default="{ row }"
          ><code>{{ row.claim }}</code></template
        ></ElTableColumn
      >
      <ElTableColumn label="Vouches for" prop="about" min-width="160" />
      <ElTableColumn label="How" prop="words" min-width="320" />
    </ElTable>
  </section>

  <DraftGate what="What tokens mean is changed in a draft."><IssuerMeaning :model="model" /></DraftGate>
  <IssuerForm :model="model" :missing="missing" @added="issuers.run" />
  <AskFirst v-model="isEnding" danger :title="`End ${ending?.key}?`" answer="End it now" :busy="ended.busy.value" @confirmed="end(ending!)">
    <p>Its tokens count no more, at once, on every node: whoever comes with one is refused. It can be set up again.</p>
  </AskFirst>
</template>

<style scoped>
.lead {
  margin: 4px 0 16px;
}
.sheet {
  margin: 0 0 16px;
}
.url {
  overflow-wrap: anywhere;
}
.steps {
  padding-left: 1.4em;
}
</style>
