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
const form = reactive({ type: '', relation: '', role: '', when: '' })
const type = computed(() => props.model.types.find((known) => known.key === form.type))

const apart = reactive({ key: '', roles: [] as string[] })
async function separate() {
  if (await draft.edit([{ path: ['separation', '#new'], value: { key: apart.key, roles: apart.roles } }])) Object.assign(apart, { key: '', roles: [] })
}

async function add() {
  const value = { role: form.role, to: { relation: form.relation }, ...(form.when.trim() ? { when: form.when.trim() } : {}) }
  if (await draft.edit([{ path: ['resource', form.type, 'confer', '#new'], value }])) form.when = ''
}
</script>

<template>
  <section class="sheet" aria-labelledby="confers">
    <h2 id="confers">Roles that come from relationships</h2>
    <p v-if="!model.confers.length">None yet: every role comes by a grant.</p>
    <ul>
      <li v-for="(one, n) in model.confers" :key="n" class="sentence">
        {{ one.sentence }} <RouterLink :to="{ name: 'roles', params: { type: one.kind }, query: { role: one.role } }">{{ one.role }}</RouterLink>
      </li>
    </ul>
  </section>
  <section class="sheet" aria-labelledby="separations">
    <h2 id="separations">What nobody may hold together</h2>
    <p v-if="!model.separations.length">No separation.</p>
    <ul>
      <li v-for="one in model.separations" :key="one.key" class="sentence">Nobody holds two of {{ one.roles.join(', ') }} where both count <span class="soft">({{ one.key }})</span>.</li>
    </ul>
  </section>
  <DraftGate what="What relationships confer is changed in a draft.">
    <form class="sheet plain" aria-labelledby="new-confer" @submit.prevent="add">
      <h2 id="new-confer">Another</h2>
      <div class="line">
        <label>A<select v-model="form.type"><option v-for="known in model.types" :key="known.key" :value="known.key">{{ known.key }}</option></select></label>
        <label>makes its<select v-model="form.relation"><option v-for="known in type?.relations ?? []" :key="known.key" :value="known.key">{{ known.key }}</option></select></label>
        <label>its<select v-model="form.role"><option v-for="known in model.roles" :key="known.key" :value="known.key">{{ known.key }}</option></select></label>
        <label class="wide">when<input v-model="form.when" class="mono" placeholder="always" autocomplete="off" /></label>
        <ElButton native-type="submit" :disabled="!form.type || !form.relation || !form.role" :loading="draft.busy.value">Add it to the draft</ElButton>
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
.sentence a {
  font: 13px var(--sans);
}
.wide {
  flex: 1 1 240px;
}
</style>
