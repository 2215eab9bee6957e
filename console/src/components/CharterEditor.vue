<script setup lang="ts">
import type { EditorView } from '@codemirror/view'
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { Defined, Finding } from '../api/types'
import { useDraft } from '../composables/useDraft'
import * as editor from '../support/editor'
import { counted } from '../support/words'

/** The charter's files as text, with what the service's own checker says of them. */
const emit = defineEmits<{ table: [string[]] }>()
const draft = useDraft()
const path = ref('')
const place = ref<HTMLElement>()
const newPath = ref('')
let view: EditorView | undefined
let own = ''
const findings = computed(() => draft.standing.value?.findings ?? [])
const counts = computed(() => {
  const all = new Map<string, number>()
  for (const finding of findings.value) all.set(finding.path, (all.get(finding.path) ?? 0) + 1)
  return all
})
const around: editor.Around = {
  path: () => path.value,
  outline: () => draft.outline.value,
  onChange: (text) => {
    own = text
    draft.write(path.value, text)
  },
  onGoTo: (defined) => void goTo(defined),
  onSave: () => void draft.save(),
  onTable: (table) => emit('table', table),
}
const textOf = (name: string) => draft.files.value.find((file) => file.path === name)?.text ?? ''

function show(name: string) {
  path.value = name
  own = textOf(name)
  if (view) {
    editor.show(view, own, around)
    editor.tell(view, name, findings.value)
  }
}

async function goTo(at: { path: string; start: number; end: number }) {
  if (at.path !== path.value) show(at.path)
  await nextTick()
  if (view) editor.select(view, at.start, at.end)
}

onMounted(() => {
  path.value = draft.files.value[0]?.path ?? 'charter.toml'
  own = textOf(path.value)
  view = editor.open(place.value!, own, around)
  editor.tell(view, path.value, findings.value)
})
onBeforeUnmount(() => view?.destroy())
watch(findings, (all: Finding[]) => view && editor.tell(view, path.value, all))
/** What a form or another's text changed is shown; what was typed here is there already. */
watch(draft.files, () => {
  const now = textOf(path.value)
  if (now !== own && view) show(path.value)
})

function add() {
  const name = newPath.value.trim()
  if (!name) return
  draft.write(name.endsWith('.toml') ? name : `${name}.toml`, '')
  show(name.endsWith('.toml') ? name : `${name}.toml`)
  newPath.value = ''
}
defineExpose({ goTo: (defined: Defined) => goTo(defined) })
</script>

<template>
  <div class="editor">
    <div class="files" role="group" aria-label="Files">
      <ElButton
        v-for="file in draft.files.value"
        :key="file.path"
        text
        class="pick"
        :aria-pressed="file.path === path"
        @click="show(file.path)"
      >
        {{ file.path }}<span v-if="counts.get(file.path)" class="denied">&nbsp;{{ counts.get(file.path) }}</span>
      </ElButton>
      <form class="new" @submit.prevent="add">
        <label
          ><span class="visually-hidden">New file</span><ElInput v-model="newPath" placeholder="new-file.toml" autocomplete="off"
        /></label>
      </form>
    </div>
    <div ref="place" class="place"></div>
    <aside class="sheet" aria-label="What the checker says" aria-live="polite">
      <h2>{{ findings.length ? counted(findings.length, 'thing', 'things') + ' to look at' : 'Nothing to mend' }}</h2>
      <ul>
        <li v-for="finding in findings" :key="finding.at + finding.message">
          <ElButton link class="at" @click="goTo(finding)">{{ finding.at }}</ElButton>
          <span :class="finding.severity === 'error' ? 'denied' : 'undetermined'">{{ finding.severity }}</span>
          {{ finding.message }}<span v-if="finding.help" class="soft">; {{ finding.help }}</span>
        </li>
      </ul>
      <p class="soft">F12 goes to where a name is defined, Ctrl+Space completes it, Ctrl+S saves.</p>
    </aside>
  </div>
</template>

<style scoped>
.editor {
  display: grid;
  grid-template: auto minmax(420px, calc(100vh - 330px)) / minmax(0, 1fr) 300px;
  gap: 0 16px;
}
.files {
  grid-column: 1 / -1;
  display: flex;
  flex-wrap: wrap;
  gap: 2px;
}
.new {
  width: 12em;
}
.place {
  border: 1px solid var(--rule);
  overflow: hidden;
  min-height: 0;
}
aside {
  overflow: auto;
  min-height: 0;
}
ul {
  margin: 6px 0;
  padding: 0;
  list-style: none;
}
li {
  padding: 5px 0;
  border-bottom: 1px solid var(--rule);
  overflow-wrap: anywhere;
}
@media (max-width: 900px) {
  .editor {
    grid-template: auto 420px auto / minmax(0, 1fr);
  }
}
@container (max-width: 700px) {
  .editor {
    grid-template: auto minmax(420px, calc(100vh - 420px)) auto / minmax(0, 1fr);
  }
}
</style>
