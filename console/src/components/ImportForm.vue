<script setup lang="ts">
import { computed, reactive, ref } from 'vue'
import { api } from '../api/calls'
import type { ImportPiece } from '../api/types'
import FailureNote from './FailureNote.vue'
import FileButton from './FileButton.vue'
import NarrowField from './NarrowField.vue'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'
import { KEY, counted } from '../support/words'

/** An OpenAPI document beside the draft: what it suggests, what of that is guessed, and what is written of it. */
const PAGE = 40
const STANDINGS = { new: 'New', changed: 'Otherwise here', gone: 'No longer in the document', same: 'As it is here' } as const
type Standing = keyof typeof STANDINGS
const draft = useDraft()
const asked = reactive({ application: '', base: '', document: '' })
const suggested = useAsync(api.import)
const { busy, error } = suggested
const left = ref<string[]>([])
const only = ref<Standing[]>(['new'])
const guess = ref('')
const narrow = ref('')
const page = ref(1)
const done = ref('')
const idOf = (piece: ImportPiece) => `${piece.about} ${piece.key}`
const of = (standing: Standing) =>
  suggested.data.value?.pieces.filter((piece) => piece.standing === standing && piece.about !== 'note').length ?? 0
const shown = computed(() => {
  const part = narrow.value.trim().toLowerCase()
  const fits = (piece: ImportPiece) =>
    piece.standing !== 'same' &&
    (!guess.value || piece.guesses.some((one) => one === guess.value)) &&
    (!part || piece.key.toLowerCase().includes(part) || piece.text.toLowerCase().includes(part))
  return suggested.data.value?.pieces.filter(fits) ?? []
})
const onPage = computed(() => shown.value.slice((page.value - 1) * PAGE, page.value * PAGE))
const chosen = computed(
  () =>
    suggested.data.value?.pieces.filter((piece) => only.value.includes(piece.standing) && !left.value.includes(idOf(piece))).length ?? 0,
)
const question = () => ({
  document: asked.document,
  application: asked.application,
  ...(asked.base.trim() ? { base: asked.base.trim() } : {}),
  files: draft.files.value.map(({ path, text }) => ({ path, text })),
})

async function read(file: File) {
  asked.document = await file.text()
}

async function suggest() {
  left.value = []
  only.value = ['new']
  guess.value = narrow.value = done.value = ''
  page.value = 1
  await suggested.run(question())
}

async function take() {
  const written = await suggested.run({ ...question(), write: { only: only.value, without: left.value } })
  if (!written?.files) return
  for (const file of written.files) draft.write(file.path, file.text)
  done.value = `Written into ${written.files.map((file) => file.path).join(', ') || 'nothing'}`
  suggested.clear()
}
</script>

<template>
  <form class="sheet plain" aria-label="Import" @submit.prevent="suggest">
    <div class="line">
      <label>Application<ElInput v-model.trim="asked.application" name="application" placeholder="customs" /></label>
      <label>Where its paths begin<ElInput v-model.trim="asked.base" name="base" placeholder="as the document says" /> </label>
      <FileButton text="An OpenAPI 3.0 or 3.1 document" accept=".json,.yaml,.yml,application/json" @chosen="read" />
    </div>
    <label>or its text<ElInput v-model="asked.document" type="textarea" name="document" :rows="6" spellcheck="false" /></label>
    <ElButton type="primary" native-type="submit" :disabled="!KEY.test(asked.application) || !asked.document" :loading="busy"
      >Read it</ElButton
    >
    <p v-if="done" role="status">{{ done }}. See it in the charter text.</p>
  </form>
  <FailureNote v-if="error" :error="error" />
  <section v-if="suggested.data.value" class="sheet" aria-labelledby="suggested">
    <h2 id="suggested">
      {{ suggested.data.value.mapped.toLocaleString('en') }} of {{ counted(suggested.data.value.operations, 'operation') }} mapped
    </h2>
    <p v-if="suggested.data.value.base" class="soft">
      Every path begins with <code>{{ suggested.data.value.base }}</code>.
    </p>
    <p v-else-if="suggested.data.value.base === null" class="undetermined">
      The document does not say where its paths begin: they begin at / unless you say so above.
    </p>
    <ElAlert
      v-if="suggested.data.value.open.length"
      type="warning"
      :closable="false"
      :title="`${counted(suggested.data.value.open.length, 'route')} open to anybody, without a token: what writes comes first`"
    >
      <ul class="open">
        <li v-for="one in suggested.data.value.open.slice(0, PAGE)" :key="one">
          <code>{{ one }}</code>
        </li>
      </ul>
      <p v-if="suggested.data.value.open.length > PAGE">and {{ suggested.data.value.open.length - PAGE }} more</p>
    </ElAlert>
    <details v-if="suggested.data.value.unmapped.length">
      <summary>{{ counted(suggested.data.value.unmapped.length, 'thing') }} not mapped, and so refused</summary>
      <ul class="open">
        <li v-for="one in suggested.data.value.unmapped.slice(0, 500)" :key="one.what + one.why">
          <code>{{ one.what }}</code> <span class="soft">{{ one.why }}</span>
        </li>
      </ul>
    </details>
    <div class="line">
      <label
        >What is guessed
        <ElSelect v-model="guess" name="guess" clearable :value-on-clear="''" placeholder="all of it" @change="page = 1">
          <ElOption
            v-for="one in suggested.data.value.guesses"
            :key="one.guess"
            :value="one.guess"
            :label="`${one.words} (${one.count.toLocaleString('en')})`"
          />
        </ElSelect>
      </label>
      <NarrowField v-model="narrow" :shown="shown.length" :of="suggested.data.value.pieces.length" what="pieces" />
    </div>
    <ElCheckboxGroup v-if="suggested.data.value.known" v-model="only" aria-label="What is written">
      <ElCheckbox v-for="one in ['new', 'changed', 'gone'] as const" :key="one" :value="one" :disabled="!of(one)"
        >{{ STANDINGS[one] }} ({{ of(one).toLocaleString('en') }})</ElCheckbox
      >
    </ElCheckboxGroup>
    <p v-if="!shown.length" class="soft">Nothing differs from what is here.</p>
    <ElCheckboxGroup v-model="left" class="pieces">
      <article v-for="piece in onPage" :key="idOf(piece)">
        <div class="mark">
          <ElCheckbox :value="idOf(piece)"
            >leave out<span class="visually-hidden"> {{ idOf(piece) }}</span></ElCheckbox
          >
          <ElTag v-if="suggested.data.value.known" size="small" type="info" disable-transitions>{{ STANDINGS[piece.standing] }}</ElTag>
        </div>
        <div :class="{ gone: left.includes(idOf(piece)) || piece.standing === 'gone' }">
          <p v-if="!piece.text || piece.now || piece.about === 'action' || piece.about === 'permission'" class="head">
            <code>{{ idOf(piece) }}</code><span v-if="piece.now" class="soft">: {{ piece.now }} here</span>
          </p>
          <pre v-if="piece.text">{{ piece.text.trim() }}</pre>
        </div>
      </article>
    </ElCheckboxGroup>
    <ElPagination
      v-if="shown.length > PAGE"
      v-model:current-page="page"
      :page-size="PAGE"
      :total="shown.length"
      layout="prev, pager, next"
      size="small"
    />
    <p class="soft">A new route that is left out is written so that it refuses: no other one takes its requests.</p>
    <ElButton type="primary" :disabled="!chosen" :loading="busy" @click="take"
      >Write {{ counted(chosen, 'piece') }} into the draft</ElButton
    >
  </section>
</template>

<style scoped>
.sheet {
  margin-bottom: 16px;
  display: grid;
  gap: 10px;
  justify-items: start;
}
textarea {
  width: min(640px, 100%);
}
.plain > label {
  width: 100%;
}
.open {
  margin: 4px 0;
  padding-left: 18px;
}
.pieces {
  width: 100%;
}
article {
  display: grid;
  grid-template-columns: 170px minmax(0, 1fr);
  gap: 8px;
  border-bottom: 1px solid var(--rule);
  padding: 6px 0;
}
.mark {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 10px;
  align-items: center;
  align-content: start;
}
.head {
  margin: 0 0 4px;
}
pre {
  margin: 0;
  font: 12px/1.5 var(--mono);
  white-space: pre-wrap;
}
.gone {
  color: var(--soft);
  text-decoration: line-through;
}
.el-select {
  width: 320px;
}
@media (max-width: 600px) {
  article {
    grid-template-columns: 1fr;
  }
}
</style>
