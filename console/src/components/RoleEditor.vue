<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, reactive, watch } from 'vue'
import type { Model, RoleShown } from '../api/types'
import { useDraft } from '../composables/useDraft'
import { editsOf, formOf } from '../support/role'

/** One role as forms: who it is, whom it includes, who may hold it, and what it gives under conditions. */
const props = defineProps<{ role: RoleShown; model: Model }>()
const draft = useDraft()
const form = reactive(formOf(props.role))
const clause = reactive({ permissions: '', when: '' })
/** The conditions of its clauses, as they are being written. */
const whens = reactive<string[]>([])
const places = computed(() => ['everywhere', 'tenant', ...props.model.types.map((type) => type.key)])
const others = computed(() => props.model.roles.map((one) => one.key).filter((key) => key !== props.role.key))
const edits = computed(() => editsOf(props.role, form))
const parts = (text: string) => text.split(',').map((one) => one.trim()).filter(Boolean)
const at = (n: number | 'new', ...rest: string[]) => ['role', props.role.key, 'clause', `#${n}`, ...rest]

watch(() => props.role, (role) => {
  Object.assign(form, formOf(role))
  whens.splice(0, whens.length, ...role.clauses.map((one) => one.when ?? ''))
}, { immediate: true })

async function addClause() {
  const value = { permissions: parts(clause.permissions), when: clause.when.trim() }
  if (await draft.edit([{ path: at('new'), value }])) Object.assign(clause, { permissions: '', when: '' })
}
</script>

<template>
  <form class="sheet plain" aria-labelledby="change-role" @submit.prevent="draft.edit(edits)">
    <h2 id="change-role">Change it</h2>
    <div class="line">
      <label>Name<input v-model="form.name" name="name" :placeholder="role.key" /></label>
      <label class="wide">What it is for<input v-model="form.description" name="description" /></label>
    </div>
    <fieldset>
      <legend>Includes</legend>
      <label v-for="one in others" :key="one" class="check"><input v-model="form.includes" type="checkbox" :value="one" />{{ one }}</label>
    </fieldset>
    <fieldset>
      <legend>Held by</legend>
      <label v-for="one in ['user', 'service']" :key="one" class="check"><input v-model="form.heldBy" type="checkbox" :value="one" />{{ one }}s</label>
      <label class="check"><input v-model="form.grantable" type="checkbox" />by grants, not only by relationships</label>
    </fieldset>
    <fieldset>
      <legend>Granted at; none: anywhere</legend>
      <label v-for="one in places" :key="one" class="check"><input v-model="form.heldAt" type="checkbox" :value="one" />{{ one }}</label>
    </fieldset>
    <div class="line">
      <label>Without a grant, given to<select v-model="form.givenTo" name="given-to">
        <option value="">nobody</option>
        <option value="members">members of the resource’s tenant</option>
        <option value="signed-in">everyone signed in</option>
        <option value="anyone">anyone</option>
      </select></label>
      <label class="wide">All it gives, only when<input v-model="form.when" name="when" class="mono" placeholder="always" autocomplete="off" spellcheck="false" /></label>
    </div>
    <fieldset>
      <legend>Standby</legend>
      <label class="check"><input v-model="form.onStandby" type="checkbox" />its grants give nothing until they are activated</label>
    </fieldset>
    <div v-if="form.onStandby" class="line">
      <label>For at most<input v-model="form.longest" name="longest" class="mono" placeholder="2h" /></label>
      <label class="wide">While<input v-model="form.standbyWhen" class="mono" placeholder="context.zone == 'quay'" autocomplete="off" spellcheck="false" /></label>
      <label class="check"><input v-model="form.reason" type="checkbox" />with a reason</label>
      <label class="check"><input v-model="form.bySelf" type="checkbox" />by its holder too</label>
    </div>
    <p><ElButton native-type="submit" type="primary" :disabled="!edits.length || !form.heldBy.length" :loading="draft.busy.value">Write it into the draft</ElButton></p>
  </form>
  <section class="sheet plain" aria-labelledby="clauses">
    <h2 id="clauses">What it gives under a condition of its own</h2>
    <form v-for="(one, n) in role.clauses" :key="n" class="line" @submit.prevent="draft.edit([{ path: at(n, 'when'), value: whens[n]!.trim() }])">
      <label class="wide">{{ one.permissions.join(', ') }}, only when<input v-model="whens[n]" class="mono" autocomplete="off" spellcheck="false" /></label>
      <ElButton native-type="submit" size="small" :disabled="!whens[n]?.trim() || whens[n] === one.when">Write it</ElButton>
      <ElButton size="small" :aria-label="`Take out clause ${n + 1}`" @click="draft.edit([{ path: at(n) }])">Take out</ElButton>
    </form>
    <form class="line" aria-label="New clause" @submit.prevent="addClause">
      <label>Permissions<input v-model="clause.permissions" name="clause-permissions" class="mono" placeholder="manifest:release" autocomplete="off" /></label>
      <label class="wide">only when<input v-model="clause.when" name="clause-when" class="mono" placeholder="subject.clearance >= resource.hazard" autocomplete="off" spellcheck="false" /></label>
      <ElButton native-type="submit" size="small" :disabled="!parts(clause.permissions).length || !clause.when.trim()">Add the clause</ElButton>
    </form>
  </section>
</template>

<style scoped>
.sheet {
  margin-bottom: 16px;
}
.wide {
  flex: 1 1 300px;
}
fieldset {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 16px;
  max-height: 200px;
  overflow: auto;
  border: 0;
  padding: 0;
  margin: 10px 0 0;
}
legend {
  color: var(--soft);
  padding: 0;
}
p {
  margin: 12px 0 0;
}
</style>
