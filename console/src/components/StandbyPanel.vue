<script setup lang="ts">
import { computed, onMounted, reactive } from 'vue'
import { api } from '../api/calls'
import type { ActivationLine, Model } from '../api/types'
import FailureNote from './FailureNote.vue'
import NameField from './NameField.vue'
import TakeAway from './TakeAway.vue'
import { useAsync } from '../composables/useAsync'
import { saidOf } from '../support/question'
import { lasting, moment } from '../support/words'

/** Grants on standby: what is active now, and activating one with a reason on record. */
const props = defineProps<{ model: Model }>()
const active = useAsync(api.activations)
const started = useAsync(api.activate)
const ended = useAsync(api.deactivate)
const grants = useAsync(async () => {
  const kept = props.model.roles.filter((role) => role.standby)
  const pages = await Promise.all(kept.map((role) => api.grants(role.key)))
  return pages.flatMap((page) => page.items.map((item) => item.grant))
})
const asked = reactive({ grant: '', subject: '', minutes: 60, reason: '', session: '', context: '' })
const chosen = computed(() => grants.data.value?.find((grant) => grant.id === asked.grant))
const standby = computed(() => props.model.roles.find((role) => role.key === chosen.value?.role)?.standby)
const isReady = computed(
  () =>
    chosen.value &&
    asked.minutes > 0 &&
    (!standby.value?.reason || asked.reason.trim()) &&
    (asked.subject || chosen.value.to.startsWith('user:') || chosen.value.to.startsWith('service:')),
)

function look() {
  void active.run()
  void grants.run()
}
onMounted(look)

async function activate() {
  const until = new Date(Date.now() + asked.minutes * 60_000).toISOString()
  const line = {
    grant: asked.grant,
    subject: asked.subject.trim() || chosen.value!.to,
    until,
    ...(asked.reason.trim() ? { reason: asked.reason.trim() } : {}),
    ...(asked.session.trim() ? { session: asked.session.trim() } : {}),
    ...(asked.context.trim() ? { context: saidOf(asked.context).context } : {}),
  }
  if (await started.run(line)) {
    asked.reason = ''
    look()
  }
}

async function end(id: string) {
  if (await ended.run(id)) look()
}
</script>

<template>
  <section class="sheet" aria-labelledby="active">
    <h2 id="active">Active now</h2>
    <FailureNote v-if="active.error.value ?? ended.error.value" :error="(active.error.value ?? ended.error.value)!" />
    <p v-else-if="!active.data.value" class="soft">Reading the activations …</p>
    <p v-else-if="!active.data.value.items.length">Nothing is active. A grant on standby gives nothing until it is activated.</p>
    <ElTable v-else :data="active.data.value.items.map((one) => one.activation)" row-key="id">
      <ElTableColumn label="Grant" prop="grant" sortable min-width="110"
        ><template #default="{ row }: { row: ActivationLine }"
          ><code>{{ row.grant }}</code></template
        ></ElTableColumn
      >
      <ElTableColumn label="For" prop="subject" sortable min-width="140">
        <template #default="{ row }: { row: ActivationLine }"
          ><span class="mono">{{ row.subject }}</span
          ><span v-if="row.session" class="soft"> in session {{ row.session }}</span></template
        >
      </ElTableColumn>
      <ElTableColumn label="Until" sortable sort-by="until" min-width="130"
        ><template #default="{ row }: { row: ActivationLine }">{{ row.until ? moment(row.until) : 'no end' }}</template></ElTableColumn
      >
      <ElTableColumn label="Why" prop="reason" min-width="160" />
      <ElTableColumn label="" width="90" align="right">
        <template #default="{ row }: { row: ActivationLine }"
          ><TakeAway
            text="End"
            :name="`End ${row.id}`"
            :asks="`${row.grant} gives ${row.subject} nothing any more, at once.`"
            answer="End it"
            @confirmed="end(row.id)"
        /></template>
      </ElTableColumn>
    </ElTable>
  </section>
  <form class="sheet plain" aria-labelledby="activate" @submit.prevent="activate">
    <h2 id="activate">Activate a grant</h2>
    <p v-if="grants.data.value && !grants.data.value.length">Nobody holds a role on standby.</p>
    <div v-else class="line">
      <label
        >Grant
        <ElSelect v-model="asked.grant" name="grant" filterable>
          <ElOption
            v-for="grant in grants.data.value ?? []"
            :key="grant.id"
            :value="grant.id"
            :label="`${grant.id}: ${grant.role} of ${grant.to} at ${grant.at}`"
          />
        </ElSelect>
      </label>
      <NameField v-if="chosen?.to.startsWith('group:')" v-model="asked.subject" label="For" placeholder="user:ines" :width="12" />
      <label
        >Minutes<ElInputNumber
          v-model="asked.minutes"
          name="minutes"
          :min="1"
          :max="standby ? Math.ceil(standby.longest / 60) : undefined"
          controls-position="right"
          class="short"
      /></label>
      <label
        >Reason<ElInput v-model="asked.reason" name="reason" :placeholder="standby?.reason ? 'needed' : 'kept with it'" autocomplete="off"
      /></label>
      <label>Session<ElInput v-model="asked.session" name="session" class="short" placeholder="any" autocomplete="off" /></label>
      <label v-if="standby?.when"
        >Context<ElInput v-model="asked.context" name="context" placeholder="zone=quay" autocomplete="off"
      /></label>
      <ElButton type="primary" native-type="submit" :disabled="!isReady" :loading="started.busy.value">Activate it</ElButton>
    </div>
    <p v-if="standby" class="soft">
      For {{ lasting(standby.longest) }} at most<template v-if="standby.when"
        >, and only when <code>{{ standby.when }}</code></template
      >. It ends by itself.
    </p>
    <FailureNote v-if="started.error.value" :error="started.error.value" />
  </form>
</template>

<style scoped>
.sheet {
  margin-bottom: 16px;
}
.short {
  width: 9em;
}
p {
  margin: 8px 0 0;
}
</style>
