<script setup lang="ts">
import { computed, ref } from 'vue'
import { api } from '../api/calls'
import FailureNote from './FailureNote.vue'
import FileButton from './FileButton.vue'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'
import { accepted, one, pieces, wholly, type Left } from '../support/pieces'
import { KEY, counted } from '../support/words'

/** An OpenAPI document: what it suggests is accepted line by line. */
const draft = useDraft()
const application = ref('')
const document = ref('')
const suggested = useAsync(api.import)
const left = ref<Left[]>([])
const done = ref('')
const all = computed(() => (suggested.data.value ? pieces(suggested.data.value.text) : []))
const whole = computed(() => all.value.filter((_, at) => left.value.includes(wholly(at))).length)

async function read(file: File) {
  document.value = await file.text()
}

async function suggest() {
  left.value = []
  done.value = ''
  await suggested.run(document.value, application.value)
}

function take() {
  const path = `${application.value}.toml`
  const before = draft.files.value.find((file) => file.path === path)?.text ?? ''
  const text = accepted(all.value, left.value)
  draft.write(path, before ? `${before.trimEnd()}\n\n${text}` : text)
  done.value = `${counted(all.value.length - whole.value, 'piece')} written into ${path}`
  suggested.clear()
}
</script>

<template>
  <form class="sheet plain" aria-label="Import" @submit.prevent="suggest">
    <div class="line">
      <label>Application<ElInput v-model.trim="application" name="application" placeholder="customs" /></label>
      <FileButton text="An OpenAPI 3.0 or 3.1 document" accept=".json,.yaml,.yml,application/json" @chosen="read" />
    </div>
    <label>or its text<ElInput v-model="document" type="textarea" name="document" :rows="6" spellcheck="false" /></label>
    <ElButton type="primary" native-type="submit" :disabled="!KEY.test(application) || !document" :loading="suggested.busy.value"
      >Read it</ElButton
    >
    <p v-if="done" role="status">{{ done }}. See it in the charter text.</p>
  </form>
  <FailureNote v-if="suggested.error.value" :error="suggested.error.value" />
  <section v-if="suggested.data.value" class="sheet" aria-labelledby="suggested">
    <h2 id="suggested">{{ counted(suggested.data.value.operations, 'operation') }}, {{ counted(suggested.data.value.routes, 'route') }}</h2>
    <p class="soft">Each guess says why it was made. Take out what is wrong; the rest goes into the draft.</p>
    <ElCheckboxGroup v-model="left" tag="ul">
      <li v-for="(piece, at) in all" :key="at">
        <ElCheckbox :value="wholly(at)"
          >leave out<span class="visually-hidden"> {{ piece.title }}</span></ElCheckbox
        >
        <pre :class="{ gone: left.includes(wholly(at)) }">{{ piece.head }}</pre>
        <template v-for="(line, n) in piece.lines" :key="n">
          <ElCheckbox :value="one(at, n)" :disabled="left.includes(wholly(at))"
            ><span class="visually-hidden">leave out {{ line }}</span></ElCheckbox
          >
          <pre :class="{ gone: left.includes(wholly(at)) || left.includes(one(at, n)) }">{{ line }}</pre>
        </template>
      </li>
    </ElCheckboxGroup>
    <details v-if="suggested.data.value.unmapped.length">
      <summary>{{ counted(suggested.data.value.unmapped.length, 'operation') }} could not be mapped</summary>
      <ul>
        <li v-for="line in suggested.data.value.unmapped" :key="line">{{ line }}</li>
      </ul>
    </details>
    <ElButton type="primary" :disabled="whole === all.length" @click="take">Write the rest into the draft</ElButton>
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
ul {
  margin: 0;
  padding: 0;
  list-style: none;
  width: 100%;
}
li {
  display: grid;
  grid-template-columns: 90px minmax(0, 1fr);
  gap: 8px;
  border-bottom: 1px solid var(--rule);
  padding: 4px 0;
}
pre {
  margin: 0;
  font: 12px/1.5 var(--mono);
  white-space: pre-wrap;
}
.inner {
  justify-self: end;
}
.gone {
  color: var(--soft);
  text-decoration: line-through;
}
</style>
