<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, reactive, watch } from 'vue'
import { api } from '../api/calls'
import type { Model } from '../api/types'
import FailureNote from './FailureNote.vue'
import NameField from './NameField.vue'
import { useAsync } from '../composables/useAsync'
import { lasting } from '../support/words'

/** Gives a role: to whom, where, with which values, from when until when. */
const props = defineProps<{ model: Model; at: string; made: string[] }>()
const emit = defineEmits<{ given: [] }>()
const grant = reactive({ role: '', to: '', at: '', from: '', until: '', values: {} as Record<string, string> })
const given = useAsync(api.give)
const roles = computed(() => props.model.roles.filter((role) => role.grantable))
const role = computed(() => roles.value.find((known) => known.key === grant.role))
const places = computed(() => role.value?.['held-at']?.join(', '))
const isReady = computed(() => grant.role && grant.to.includes(':') && grant.at && (role.value?.values ?? []).every((value) => grant.values[value.key]?.trim()))
watch(() => props.at, (at) => (grant.at = at || 'everywhere'), { immediate: true })

async function give() {
  const asked = role.value?.values ?? []
  const values = Object.fromEntries(asked.map((value) => [value.key, (grant.values[value.key] ?? '').split(',').map((one) => valueOf(one.trim(), value.kind))]))
  const line = {
    role: grant.role,
    to: grant.to.trim(),
    at: grant.at.trim(),
    ...(asked.length ? { values } : {}),
    ...(grant.from.trim() ? { from: dated(grant.from) } : {}),
    ...(grant.until.trim() ? { until: dated(grant.until) } : {}),
  }
  if (await given.run(line)) emit('given')
}
const valueOf = (text: string, kind: string): unknown => (kind === 'integer' ? Number(text) : kind === 'boolean' ? text === 'true' : text)
/** A date alone is its midnight in UTC, as fact lines have it. */
const dated = (text: string) => (/^\d{4}-\d\d-\d\d$/.test(text.trim()) ? `${text.trim()}T00:00:00Z` : text.trim())
</script>

<template>
  <form class="sheet plain" aria-labelledby="give" @submit.prevent="give">
    <h2 id="give">Give a role</h2>
    <div class="line">
      <label>Role
        <select v-model="grant.role" name="role">
          <option v-for="known in roles" :key="known.key" :value="known.key">{{ known.key }}{{ known.standby ? ' (on standby)' : '' }}</option>
          <option v-for="key in made" :key="key" :value="key">{{ key }}</option>
        </select>
      </label>
      <NameField v-model="grant.to" label="To" placeholder="user:ines, group:night" :width="15" />
      <NameField v-model="grant.at" label="At" placeholder="everywhere, tenant:northline" :width="16" />
      <label>From<input v-model="grant.from" name="from" class="mono date" placeholder="now" autocomplete="off" /></label>
      <label>Until<input v-model="grant.until" name="until" class="mono date" placeholder="no end" autocomplete="off" /></label>
      <label v-for="value in role?.values ?? []" :key="value.key">{{ value.key }} ({{ value.kind }})<input v-model="grant.values[value.key]" class="mono" placeholder="NL, HF" autocomplete="off" /></label>
      <ElButton type="primary" native-type="submit" :disabled="!isReady" :loading="given.busy.value">Give it</ElButton>
    </div>
    <p v-if="role" class="soft">
      {{ role.description || role.name }}<template v-if="places">. May be given at: {{ places }}</template><template v-if="role.standby">. It gives nothing until it is activated, for {{ lasting(role.standby.longest) }} at most</template>.
    </p>
    <FailureNote v-if="given.error.value" :error="given.error.value" />
    <p v-if="given.data.value" role="status">{{ given.data.value.changed.length ? 'Given, and in force.' : 'They hold it already; nothing changed.' }}</p>
  </form>
</template>

<style scoped>
p {
  margin: 8px 0 0;
}
.date {
  width: 12em;
}
</style>
