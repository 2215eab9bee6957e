<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, reactive } from 'vue'
import { RouterLink } from 'vue-router'
import type { Model } from '../api/types'
import DraftGate from './DraftGate.vue'
import { useDraft } from '../composables/useDraft'
import { KEY } from '../support/words'

/** Roles that come from relationships, as sentences; and what nobody may hold together. */
const props = defineProps<{ model: Model }>()
const draft = useDraft()
const form = reactive({ type: '', path: '', holds: '', role: '', when: '' })
const type = computed(() => props.model.types.find((known) => known.key === form.type))
/** Where a path may begin; it may go on from there. */
const steps = computed(() => [...(type.value?.relations ?? []).map((one) => one.key), ...(type.value?.within.length ? ['within'] : [])])
/** Each with its place among those of its type, by which it is taken out. */
const confers = computed(() => props.model.confers.map((one, n, all) => ({ ...one, at: all.slice(0, n).filter((other) => other.kind === one.kind).length })))

const apart = reactive({ key: '', roles: [] as string[] })
async function separate() {
  if (await draft.edit([{ path: ['separation', '#new'], value: { key: apart.key, roles: apart.roles } }])) Object.assign(apart, { key: '', roles: [] })
}

async function add() {
  const to = form.holds ? { holds: form.holds, at: form.path.trim() } : { relation: form.path.trim() }
  const value = { role: form.role, to, ...(form.when.trim() ? { when: form.when.trim() } : {}) }
  if (await draft.edit([{ path: ['resource', form.type, 'confer', '#new'], value }])) Object.assign(form, { path: '', when: '' })
}
</script>

<template>
  <section class="sheet" aria-labelledby="confers">
    <h2 id="confers">Roles that come from relationships</h2>
    <p v-if="!model.confers.length">None yet: every role comes by a grant.</p>
    <ul>
      <li v-for="(one, n) in confers" :key="n" class="sentence">
        {{ one.sentence }} <RouterLink :to="{ name: 'role', params: { role: one.role } }">{{ one.role }}</RouterLink>
        <ElButton v-if="draft.draft.value" size="small" :aria-label="`Take out: ${one.sentence}`" @click="draft.edit([{ path: ['resource', one.kind, 'confer', `#${one.at}`] }])">Take out</ElButton>
      </li>
    </ul>
  </section>
  <section class="sheet" aria-labelledby="separations">
    <h2 id="separations">What nobody may hold together</h2>
    <p v-if="!model.separations.length">No separation.</p>
    <ul>
      <li v-for="one in model.separations" :key="one.key" class="sentence">Nobody holds two of {{ one.roles.join(', ') }} where both count <span class="soft">({{ one.key }})</span>.
        <ElButton v-if="draft.draft.value" size="small" :aria-label="`Take out ${one.key}`" @click="draft.edit([{ path: ['separation', one.key] }])">Take out</ElButton>
      </li>
    </ul>
  </section>
  <DraftGate what="What relationships confer is changed in a draft.">
    <form class="sheet plain" aria-labelledby="new-confer" @submit.prevent="add">
      <h2 id="new-confer">Another role from a relationship</h2>
      <div class="line">
        <label>A<select v-model="form.type"><option v-for="known in model.types" :key="known.key" :value="known.key">{{ known.key }}</option></select></label>
        <label>makes<select v-model="form.holds"><option value="">who stands at its</option><option v-for="known in model.roles" :key="known.key" :value="known.key">whoever holds {{ known.key }} at its</option></select></label>
        <label>path<input v-model.trim="form.path" name="path" class="mono" list="steps" placeholder="within.agent" autocomplete="off" /></label>
        <datalist id="steps"><option v-for="one in steps" :key="one" :value="one" /></datalist>
        <label>its<select v-model="form.role"><option v-for="known in model.roles" :key="known.key" :value="known.key">{{ known.key }}</option></select></label>
        <label class="wide">when<input v-model="form.when" class="mono" placeholder="always" autocomplete="off" /></label>
        <ElButton native-type="submit" :disabled="!form.type || !form.path || !form.role" :loading="draft.busy.value">Add it to the draft</ElButton>
      </div>
    </form>
    <form class="sheet plain" aria-labelledby="new-separation" @submit.prevent="separate">
      <h2 id="new-separation">Another pair to keep apart</h2>
      <div class="line">
        <label>Key<input v-model.trim="apart.key" name="separation" class="mono" placeholder="declare-or-inspect" autocomplete="off" /></label>
        <label v-for="n in 2" :key="n">{{ n === 1 ? 'Nobody holds both' : 'and' }}<select v-model="apart.roles[n - 1]" :name="`apart-${n}`"><option v-for="known in model.roles" :key="known.key" :value="known.key">{{ known.key }}</option></select></label>
        <ElButton native-type="submit" :disabled="!KEY.test(apart.key) || !apart.roles[0] || !apart.roles[1] || apart.roles[0] === apart.roles[1]" :loading="draft.busy.value">Add it to the draft</ElButton>
      </div>
    </form>
  </DraftGate>
</template>

<style scoped>
.sheet {
  margin-bottom: 16px;
}
ul {
  list-style: none;
  margin: 6px 0 0;
  padding: 0;
}
.sentence {
  font: 16px/1.5 var(--serif);
  border-bottom: 1px solid var(--rule);
  padding: 4px 0;
}
.sentence .el-button {
  float: right;
}
.sentence a {
  font: 13px var(--sans);
}
.wide {
  flex: 1 1 240px;
}
</style>
