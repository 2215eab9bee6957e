<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, onMounted, reactive } from 'vue'
import { api } from '../api/calls'
import type { Model } from '../api/types'
import FailureNote from './FailureNote.vue'
import NameField from './NameField.vue'
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
const asked = reactive({ grant: '', subject: '', minutes: '60', reason: '', session: '', context: '' })
const chosen = computed(() => grants.data.value?.find((grant) => grant.id === asked.grant))
const standby = computed(() => props.model.roles.find((role) => role.key === chosen.value?.role)?.standby)
const isReady = computed(() => chosen.value && Number(asked.minutes) > 0 && (!standby.value?.reason || asked.reason.trim()) && (asked.subject || chosen.value.to.startsWith('user:') || chosen.value.to.startsWith('service:')))

function look() {
  void active.run()
  void grants.run()
}
onMounted(look)

async function activate() {
  const until = new Date(Date.now() + Number(asked.minutes) * 60_000).toISOString()
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
    <table v-else class="rows">
      <thead><tr><th scope="col">Grant</th><th scope="col">For</th><th scope="col">Until</th><th scope="col">Why</th><th scope="col"><span class="visually-hidden">What to do</span></th></tr></thead>
      <tbody>
        <tr v-for="{ activation } in active.data.value.items" :key="activation.id">
          <td><code>{{ activation.grant }}</code></td>
          <td class="mono">{{ activation.subject }}<span v-if="activation.session" class="soft"> in session {{ activation.session }}</span></td>
          <td>{{ activation.until ? moment(activation.until) : 'no end' }}</td>
          <td>{{ activation.reason }}</td>
          <td><ElButton size="small" :aria-label="`End ${activation.id}`" @click="end(activation.id)">End</ElButton></td>
        </tr>
      </tbody>
    </table>
  </section>
  <form class="sheet plain" aria-labelledby="activate" @submit.prevent="activate">
    <h2 id="activate">Activate a grant</h2>
    <p v-if="grants.data.value && !grants.data.value.length">Nobody holds a role on standby.</p>
    <div v-else class="line">
      <label>Grant
        <select v-model="asked.grant" name="grant">
          <option v-for="grant in grants.data.value ?? []" :key="grant.id" :value="grant.id">{{ grant.id }}: {{ grant.role }} of {{ grant.to }} at {{ grant.at }}</option>
        </select>
      </label>
      <NameField v-if="chosen?.to.startsWith('group:')" v-model="asked.subject" label="For" placeholder="user:ines" :width="12" />
      <label>Minutes<input v-model="asked.minutes" name="minutes" type="number" min="1" class="short" /></label>
      <label>Reason<input v-model="asked.reason" name="reason" :placeholder="standby?.reason ? 'needed' : 'kept with it'" autocomplete="off" /></label>
      <label>Session<input v-model="asked.session" name="session" class="mono short" placeholder="any" autocomplete="off" /></label>
      <label v-if="standby?.when">Context<input v-model="asked.context" name="context" class="mono" placeholder="zone=quay" autocomplete="off" /></label>
      <ElButton type="primary" native-type="submit" :disabled="!isReady" :loading="started.busy.value">Activate it</ElButton>
    </div>
    <p v-if="standby" class="soft">For {{ lasting(standby.longest) }} at most<template v-if="standby.when">, and only when <code>{{ standby.when }}</code></template>. It ends by itself.</p>
    <FailureNote v-if="started.error.value" :error="started.error.value" />
  </form>
</template>

<style scoped>
.sheet {
  margin-bottom: 16px;
}
.short {
  width: 7em;
}
p {
  margin: 8px 0 0;
}
</style>
