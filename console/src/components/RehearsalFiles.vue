<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'
import { api } from '../api/calls'
import FailureNote from './FailureNote.vue'
import FileButton from './FileButton.vue'
import RehearsalForms from './RehearsalForms.vue'
import TakeAway from './TakeAway.vue'
import { useAsync } from '../composables/useAsync'
import { forget, keep, recall } from '../support/keeping'
import { counted } from '../support/words'

/** Samples, cases and guarantees as text, and the cases that were kept from trying. */
const saved = useAsync(api.rehearsal)
const saving = useAsync(api.saveRehearsal)
const kept = useAsync(api.cases)
const model = useAsync(() => api.model())
const taken = useAsync(api.takeCaseAway)
const files = ref<{ path: string; text: string }[]>([])
const at = ref(0)
const newPath = ref('')
const chosen = computed(() => files.value[at.value])
const changed = computed(() => JSON.stringify(files.value) !== JSON.stringify(saved.data.value?.files ?? []))

/** Where what is not saved is kept in this browser. */
const PLACE = 'rehearsal'
/** The text that ours was made from: saving over a newer one is refused. */
const from = ref(0)
watch(files, (all) => (changed.value ? keep(PLACE, { from: String(from.value), files: all }) : forget(PLACE)), { deep: true })

async function look() {
  const found = await saved.run()
  if (!found) return
  const mine = recall(PLACE)
  from.value = mine ? Number(mine.from) : found.number
  files.value = (mine ?? found).files.map((file) => ({ ...file }))
}

/** What a form says stands at the end of the text that is open; a table of cases has no place for it. */
const into = computed(() => (chosen.value?.path.endsWith('.toml') ? chosen.value : files.value.find((file) => file.path.endsWith('.toml'))))
function write(text: string) {
  if (!into.value) files.value.push({ path: 'written.toml', text: '' })
  const file = into.value!
  file.text = [file.text.trimEnd(), text].filter(Boolean).join('\n\n')
  at.value = files.value.indexOf(file)
}

function takeTheirs() {
  forget(PLACE)
  void look()
}
onMounted(() => {
  void look()
  void kept.run()
  void model.run()
})

function add() {
  const path = /\.(toml|csv)$/.test(newPath.value) ? newPath.value : `${newPath.value}.toml`
  files.value.push({ path, text: path.endsWith('.csv') ? 'subject,permission,resource,expected\n' : '' })
  at.value = files.value.length - 1
  newPath.value = ''
}

async function read(raw: File) {
  const text = await raw.text()
  const known = files.value.find((one) => one.path === raw.name)
  if (known) known.text = text
  else files.value.push({ path: raw.name, text })
}

async function save() {
  const done = await saving.run(files.value, from.value)
  if (!done) return
  forget(PLACE)
  from.value = done.number
  saved.data.value = done
  files.value = done.files.map((file) => ({ ...file }))
}

async function takeAway(number: number) {
  await taken.run(number)
  await kept.run()
}
</script>

<template>
  <FailureNote
    v-if="saved.error.value ?? saving.error.value ?? taken.error.value"
    :error="(saved.error.value ?? saving.error.value ?? taken.error.value)!"
  />
  <section v-if="saved.data.value" class="sheet plain" aria-labelledby="files">
    <h2 id="files">The rehearsal’s files</h2>
    <p v-if="changed && from !== saved.data.value.number" role="alert">
      Somebody saved them since you began; yours are kept here.
      <ElButton size="small" @click="takeTheirs">Take theirs</ElButton>
      <ElButton size="small" @click="from = saved.data.value.number">Mine stay: save over them</ElButton>
    </p>
    <p v-if="!files.length">
      None yet. Samples are people and things that are made up; cases say what they may and may not; guarantees say what nobody ever may.
    </p>
    <div class="line" role="group" aria-label="Files">
      <ElButton v-for="(file, n) in files" :key="file.path" text class="pick" :aria-pressed="n === at" @click="at = n">{{
        file.path
      }}</ElButton>
    </div>
    <label v-if="chosen" class="text"
      ><span class="visually-hidden">{{ chosen.path }}</span
      ><ElInput v-model="chosen.text" type="textarea" :rows="20" spellcheck="false"
    /></label>
    <ul v-if="saved.data.value.findings.length" class="denied">
      <li v-for="line in saved.data.value.findings" :key="line">{{ line }}</li>
    </ul>
    <div class="line">
      <ElButton type="primary" :disabled="!changed" :loading="saving.busy.value" @click="save">Save the files</ElButton>
      <label>New file<ElInput v-model.trim="newPath" placeholder="cases.toml, or cases.csv" autocomplete="off" /></label>
      <ElButton :disabled="!newPath" @click="add">Add it</ElButton>
      <FileButton multiple text="Files from here" accept=".toml,.csv" @chosen="read" />
    </div>
  </section>
  <p v-else-if="saved.busy.value" class="soft">Reading the files …</p>
  <RehearsalForms
    v-if="saved.data.value && model.data.value"
    :model="model.data.value"
    :into="into?.path ?? 'written.toml'"
    @write="write"
  />
  <section class="sheet" aria-labelledby="kept">
    <h2 id="kept">Kept from trying</h2>
    <p v-if="!kept.data.value?.length">No case yet: every answer on Try can be kept as one.</p>
    <template v-else>
      <p class="soft">
        {{ counted(kept.data.value.length, 'case') }}, asked of what is registered.
        <a href="/api/v1/cases/file" download="kept.toml">As a file</a>
      </p>
      <ul>
        <li v-for="one in kept.data.value" :key="one.number">
          {{ one.case.name }} <span class="soft">{{ one.author }}</span>
          <TakeAway
            text="Take away"
            :name="`Take away ${one.case.name}`"
            asks="It is a case no more."
            answer="Take away"
            @confirmed="takeAway(one.number)"
          />
        </li>
      </ul>
    </template>
  </section>
</template>

<style scoped>
.sheet {
  margin-bottom: 16px;
  display: grid;
  gap: 10px;
}
.text textarea {
  width: 100%;
  font: 13px/1.5 var(--mono);
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  border-bottom: 1px solid var(--rule);
  padding: 4px 0;
}
li :deep(.el-button) {
  margin-left: 10px;
}
p {
  margin: 0;
}
</style>
