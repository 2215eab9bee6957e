<script setup lang="ts">
import { computed, reactive } from 'vue'
import { RouterLink } from 'vue-router'
import type { Model } from '../api/types'
import ConditionField from './ConditionField.vue'
import DraftGate from './DraftGate.vue'
import NameField from './NameField.vue'
import TakeAway from './TakeAway.vue'
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
const confers = computed(() =>
  props.model.confers.map((one, n, all) => ({ ...one, at: all.slice(0, n).filter((other) => other.kind === one.kind).length })),
)

const apart = reactive({ key: '', roles: [] as string[] })
async function separate() {
  if (await draft.edit([{ path: ['separation', '#new'], value: { key: apart.key, roles: apart.roles } }]))
    Object.assign(apart, { key: '', roles: [] })
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
        <TakeAway
          v-if="draft.draft.value"
          text="Take out"
          :name="`Take out: ${one.sentence}`"
          :asks="`No relationship of a ${one.kind} makes anybody ${one.role} this way any more, in this draft.`"
          answer="Take out"
          @confirmed="draft.edit([{ path: ['resource', one.kind, 'confer', `#${one.at}`] }])"
        />
      </li>
    </ul>
  </section>
  <section class="sheet" aria-labelledby="separations">
    <h2 id="separations">What nobody may hold together</h2>
    <p v-if="!model.separations.length">No separation.</p>
    <ul>
      <li v-for="one in model.separations" :key="one.key" class="sentence">
        Nobody holds two of {{ one.roles.join(', ') }} where both count <span class="soft">({{ one.key }})</span>.
        <TakeAway
          v-if="draft.draft.value"
          text="Take out"
          :name="`Take out ${one.key}`"
          asks="They may be held together, in this draft."
          answer="Take out"
          @confirmed="draft.edit([{ path: ['separation', one.key] }])"
        />
      </li>
    </ul>
  </section>
  <DraftGate what="What relationships confer is changed in a draft.">
    <form class="sheet plain" aria-labelledby="new-confer" @submit.prevent="add">
      <h2 id="new-confer">Another role from a relationship</h2>
      <div class="line">
        <label
          >A<ElSelect v-model="form.type" name="of" filterable
            ><ElOption v-for="known in model.types" :key="known.key" :value="known.key" :label="known.key" /></ElSelect
        ></label>
        <label
          >makes<ElSelect v-model="form.holds" name="holds" filterable clearable :value-on-clear="''" placeholder="who stands at its"
            ><ElOption
              v-for="known in model.roles"
              :key="known.key"
              :value="known.key"
              :label="`whoever holds ${known.key} at its`" /></ElSelect
        ></label>
        <NameField v-model="form.path" label="path" placeholder="within.agent" :known="steps" :width="12" />
        <label
          >its<ElSelect v-model="form.role" name="makes" filterable
            ><ElOption v-for="known in model.roles" :key="known.key" :value="known.key" :label="known.key" /></ElSelect
        ></label>
        <ConditionField v-model="form.when" label="when" />
        <ElButton native-type="submit" :disabled="!form.type || !form.path || !form.role" :loading="draft.busy.value"
          >Add it to the draft</ElButton
        >
      </div>
    </form>
    <form class="sheet plain" aria-labelledby="new-separation" @submit.prevent="separate">
      <h2 id="new-separation">Another pair to keep apart</h2>
      <div class="line">
        <label>Key<ElInput v-model.trim="apart.key" name="separation" placeholder="declare-or-inspect" autocomplete="off" /></label>
        <label v-for="n in 2" :key="n"
          >{{ n === 1 ? 'Nobody holds both' : 'and'
          }}<ElSelect v-model="apart.roles[n - 1]" :name="`apart-${n}`" filterable
            ><ElOption v-for="known in model.roles" :key="known.key" :value="known.key" :label="known.key" /></ElSelect
        ></label>
        <ElButton
          native-type="submit"
          :disabled="!KEY.test(apart.key) || !apart.roles[0] || !apart.roles[1] || apart.roles[0] === apart.roles[1]"
          :loading="draft.busy.value"
          >Add it to the draft</ElButton
        >
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
.sentence :deep(.el-button) {
  float: right;
}
.sentence a {
  font: 13px var(--sans);
}
.wide {
  flex: 1 1 240px;
}
</style>
