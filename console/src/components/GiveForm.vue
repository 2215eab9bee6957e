<script setup lang="ts">
import Papa from 'papaparse'
import { computed, reactive, ref, watch } from 'vue'
import { api } from '../api/calls'
import type { GrantLine, Model, RegisterLine, Written } from '../api/types'
import AsCommand from './AsCommand.vue'
import FailureNote from './FailureNote.vue'
import FileButton from './FileButton.vue'
import MomentField from './MomentField.vue'
import NamesField from './NamesField.vue'
import PlaceField from './PlaceField.vue'
import { useAsync } from '../composables/useAsync'
import { happened } from '../support/happened'
import { numberOf, writeJson } from '../support/json'
import { counted, lasting, lineTold } from '../support/words'

/** Gives roles: which, to whom, where, with which values, from when until when; one or many at once. */
const props = defineProps<{ model: Model; at: string; made: string[] }>()
const emit = defineEmits<{ given: [] }>()
const asked = reactive({ roles: [] as string[], to: [] as string[], at: '', from: '', until: '', values: {} as Record<string, string> })
const given = useAsync(api.give)
/** Of many, what would change is told before anything is written. */
const told = useAsync(async (lines: RegisterLine[]) => {
  const now = await api.status()
  const written = await api.load(ndjson(lines), true)
  return { lines, at: now.position, changed: written.changed }
})
const loaded = useAsync(api.load)
const wrong = ref('')
const grantable = computed(() => props.model.roles.filter((role) => role.grantable))
const chosen = computed(() => grantable.value.filter((role) => asked.roles.includes(role.key)))
const values = computed(() => [...new Map(chosen.value.flatMap((role) => role.values).map((value) => [value.key, value])).values()])
const isReady = computed(
  () =>
    asked.roles.length > 0 &&
    asked.to.length > 0 &&
    asked.to.every((name) => name.includes(':')) &&
    asked.at &&
    values.value.every((value) => asked.values[value.key]?.trim()),
)
const lines = computed(() => asked.roles.flatMap((role) => asked.to.map((to) => lineOf(role, to))))
watch(
  () => props.at,
  (at) => (asked.at = at || 'everywhere'),
  { immediate: true },
)
watch(asked, () => {
  told.clear()
  loaded.clear()
})

const ndjson = (all: RegisterLine[]) => all.map((grant) => writeJson({ grant })).join('\n')
const valueOf = (text: string, kind: string): unknown => (kind === 'integer' ? numberOf(text) : kind === 'boolean' ? text === 'true' : text)

function lineOf(key: string, to: string): RegisterLine {
  const own = grantable.value.find((role) => role.key === key)?.values ?? []
  const stated = Object.fromEntries(
    own.map((value) => [value.key, (asked.values[value.key] ?? '').split(',').map((one) => valueOf(one.trim(), value.kind))]),
  )
  return {
    role: key,
    to: to.trim(),
    at: asked.at.trim(),
    ...(own.length ? { values: stated } : {}),
    ...(asked.from ? { from: asked.from } : {}),
    ...(asked.until ? { until: asked.until } : {}),
  }
}

async function give() {
  if (lines.value.length > 1) return void told.run(lines.value)
  const done = await given.run(lines.value[0]!)
  if (done) tell(done)
}

/** What was given can be taken back as one. */
function tell(done: Written) {
  emit('given')
  const grants = done.changed.flatMap((line) => (line.grant as GrantLine | undefined) ?? [])
  const [first] = grants
  if (!first) return
  const words = grants.length > 1 ? `${counted(grants.length, 'grant')} given` : `${first.role} given to ${first.to}`
  happened(words, { back: () => api.endGrants(grants.map((grant) => grant.id!)), then: () => emit('given') })
}

async function giveAll() {
  const { lines, at } = told.data.value!
  const done = await loaded.run(ndjson(lines), false, at)
  if (!done) return
  told.clear()
  tell(done)
}

/** Rows of a table: role, to, at, and perhaps from and until. */
async function read(file: File) {
  wrong.value = ''
  const parsed = Papa.parse<Record<string, string>>(await file.text(), {
    header: true,
    skipEmptyLines: true,
    transformHeader: (name) => name.trim().toLowerCase(),
  })
  const missing = ['role', 'to', 'at'].filter((column) => !parsed.meta.fields?.includes(column))
  if (missing.length)
    wrong.value = `The table has no column ${missing.join(', ')}: its first line names role, to, at, and perhaps from and until.`
  else
    void told.run(
      parsed.data.map(({ role, to, at, from, until }) => ({ role, to, at, ...(from ? { from } : {}), ...(until ? { until } : {}) })),
    )
}
const isNew = (line: RegisterLine) =>
  told.data.value!.changed.some((change) => {
    const grant = change.grant as RegisterLine | undefined
    return grant && grant.role === line.role && grant.to === line.to && grant.at === line.at
  })
const command = computed(
  () => `ostrog grant ${asked.roles[0]} --to ${asked.to[0]} --at ${asked.at}${asked.until ? ` --until ${asked.until}` : ''}`,
)
</script>

<template>
  <form class="sheet plain" aria-labelledby="give" @submit.prevent="give">
    <h2 id="give">Give a role</h2>
    <div class="line">
      <label class="roles"
        >Roles
        <ElSelect v-model="asked.roles" name="role" multiple filterable placeholder="inspector">
          <ElOption
            v-for="known in grantable"
            :key="known.key"
            :value="known.key"
            :label="`${known.key}${known.standby ? ' (on standby)' : ''}`"
          />
          <ElOption v-for="key in made" :key="key" :value="key" :label="key" />
        </ElSelect>
      </label>
      <NamesField
        v-model="asked.to"
        label="To"
        name="to"
        placeholder="user:ines, group:night"
        :width="22"
        :types="['user', 'service', 'group']"
      />
      <PlaceField v-model="asked.at" label="At" name="at" :width="18" />
      <MomentField v-model="asked.from" label="From" name="from" placeholder="now" />
      <MomentField v-model="asked.until" label="Until" name="until" placeholder="no end" />
      <label v-for="value in values" :key="value.key"
        >{{ value.key }} ({{ value.kind }})<ElInput v-model="asked.values[value.key]" placeholder="NL, HF" autocomplete="off"
      /></label>
      <ElButton type="primary" native-type="submit" :disabled="!isReady" :loading="given.busy.value || told.busy.value">{{
        lines.length > 1 ? `See what ${lines.length} grants do` : 'Give it'
      }}</ElButton>
      <FileButton text="From a CSV table" accept=".csv" @chosen="read" />
    </div>
    <p v-for="role in chosen" :key="role.key" class="soft">
      <code>{{ role.key }}</code> {{ role.description || role.name
      }}<template v-if="role['held-at']">. May be given at: {{ role['held-at'].join(', ') }}</template
      ><template v-if="role.standby">. It gives nothing until it is activated, for {{ lasting(role.standby.longest) }} at most</template>.
    </p>
    <ElAlert v-if="wrong" type="error" :closable="false" :title="wrong" role="alert" />
    <FailureNote
      v-if="given.error.value ?? told.error.value ?? loaded.error.value"
      :error="(given.error.value ?? told.error.value ?? loaded.error.value)!"
    />
    <p v-if="given.data.value" role="status">
      {{ given.data.value.changed.length ? 'Given, and in force.' : 'They hold it already; nothing changed.' }}
    </p>
    <p v-if="loaded.data.value" role="status">{{ counted(loaded.data.value.changed.length, 'grant') }} given, and in force.</p>
    <section v-if="told.data.value" aria-label="What it does" role="status">
      <h3>{{ counted(told.data.value.changed.length, 'grant would be new', 'grants would be new') }}; nothing is written yet</h3>
      <ElTable :data="told.data.value.lines" max-height="320">
        <ElTableColumn label="Grant" min-width="260">
          <template #default="{ row }: { row: RegisterLine }">{{ lineTold({ grant: row }) }}</template>
        </ElTableColumn>
        <ElTableColumn label="" width="160">
          <template #default="{ row }: { row: RegisterLine }"
            ><span :class="isNew(row) ? 'allowed' : 'soft'">{{ isNew(row) ? 'new' : 'they hold it already' }}</span></template
          >
        </ElTableColumn>
      </ElTable>
      <ElButton type="primary" :disabled="!told.data.value.changed.length" :loading="loaded.busy.value" @click="giveAll"
        >Give all of them</ElButton
      >
    </section>
    <AsCommand v-if="isReady && lines.length === 1" :line="command" />
  </form>
</template>

<style scoped>
p {
  margin: 8px 0 0;
}
h3 {
  font-size: 14px;
  margin-top: 12px;
}
.roles {
  flex: 1 1 16em;
}
</style>
