<script setup lang="ts">
import { computed, ref } from 'vue'
import { api } from '../api/calls'
import type { EntityLine, RegisterLine } from '../api/types'
import FailureNote from './FailureNote.vue'
import { useAsync } from '../composables/useAsync'
import { useStatus } from '../composables/useStatus'
import { differences } from '../support/differences'
import { writeJson } from '../support/json'
import { counted, lineTold } from '../support/words'

/** Lines of a file beside the register: what would change is shown before anything is written. */
const MAX = 10_000
const SHOWN = 200
/** How many entities are held beside what the register says of them. */
const COMPARED = 50
const status = useStatus()
const text = ref('')
const checked = useAsync(async (lines: string) => {
  const now = await api.status()
  const written = await api.load(lines, true)
  const named = written.changed.filter((line) => line.entity).slice(0, COMPARED) as EntityLine[]
  const before = await Promise.all(
    named.map((line) =>
      api.entity(line.entity).then(
        ({ entity }) => entity,
        () => undefined,
      ),
    ),
  )
  const told = new Map(named.map((line, at) => [line.entity, differences(before[at], line)]))
  return { changed: written.changed, at: now.position, lines, told }
})
const loaded = useAsync(api.load)
const lines = computed(() => text.value.split('\n').filter((line) => line.trim()))
const isFresh = computed(() => checked.data.value?.lines === text.value)
const groups = computed(() => {
  const all = new Map<string, RegisterLine[]>()
  for (const line of checked.data.value?.changed ?? []) {
    const kind =
      Object.keys(line).find((key) =>
        ['entity', 'grant', 'delete', 'activation', 'tenant-role', 'end-grant', 'end-activation', 'end-tenant-role'].includes(key),
      ) ?? 'note'
    all.set(kind, [...(all.get(kind) ?? []), line])
  }
  return all
})

const example = '{"entity":"user:ines","attributes":{"clearance":3}}'
async function read(file: { raw?: File }) {
  if (file.raw) text.value = await file.raw.text()
}

async function load() {
  const { at, lines } = checked.data.value!
  if (!(await loaded.run(lines, false, at))) return
  text.value = ''
  checked.clear()
  void status.run()
}
</script>

<template>
  <form class="sheet plain" aria-label="Load" @submit.prevent="checked.run(text)">
    <ElUpload drag :auto-upload="false" :show-file-list="false" accept=".ndjson,.jsonl,.json,.txt" :on-change="read">
      <p>A file of register lines (NDJSON): drop it here, or <span class="link">choose one</span></p>
    </ElUpload>
    <label>or the lines<ElInput v-model="text" type="textarea" name="lines" :rows="8" spellcheck="false" :placeholder="example" /></label>
    <p v-if="lines.length > MAX" class="denied">
      {{ counted(lines.length, 'line') }}: at most {{ MAX.toLocaleString('en') }} at a time here.
      <code>ostrog register load FILE</code> takes any number.
    </p>
    <ElButton type="primary" native-type="submit" :disabled="!lines.length || lines.length > MAX" :loading="checked.busy.value"
      >Compare with the register</ElButton
    >
    <p v-if="loaded.data.value" role="status">
      {{ counted(loaded.data.value.changed.length, 'fact') }} written, at {{ loaded.data.value.position }}.
    </p>
  </form>
  <FailureNote v-if="checked.error.value ?? loaded.error.value" :error="(checked.error.value ?? loaded.error.value)!" />
  <section v-if="checked.data.value && isFresh" class="sheet" aria-labelledby="would">
    <h2 id="would">
      {{
        checked.data.value.changed.length
          ? `${counted(checked.data.value.changed.length, 'fact')} would change`
          : 'The register says all of it already'
      }}
    </h2>
    <p class="soft">
      {{ counted(lines.length, 'line') }} read; nothing is written yet. Loading is whole or not at all, and only onto position
      {{ checked.data.value.at }}.
    </p>
    <details v-for="[kind, all] in groups" :key="kind" open>
      <summary>{{ counted(all.length, kind, kind === 'entity' ? 'entities' : `${kind}s`) }}</summary>
      <ul>
        <li v-for="(line, n) in all.slice(0, SHOWN)" :key="n">
          <span>{{ lineTold(line) }}</span><strong v-if="line.entity && checked.data.value.told.has(String(line.entity))"
            >: {{ checked.data.value.told.get(String(line.entity))!.join('; ') }}</strong
          >
          <code class="soft">{{ writeJson(line) }}</code>
        </li>
      </ul>
      <p v-if="all.length > SHOWN" class="soft">and {{ all.length - SHOWN }} more</p>
    </details>
    <ElButton v-if="checked.data.value.changed.length" type="primary" :loading="loaded.busy.value" @click="load">Write them</ElButton>
  </section>
</template>

<style scoped>
.sheet {
  margin-bottom: 16px;
  display: grid;
  gap: 10px;
  justify-items: start;
}
.plain label,
details {
  width: 100%;
}
ul {
  margin: 4px 0;
  padding: 0;
  list-style: none;
}
li {
  border-bottom: 1px solid var(--rule);
  padding: 3px 0;
  overflow-wrap: anywhere;
}
</style>
