<script setup lang="ts">
import { computed, reactive, watch } from 'vue'
import type { Model, RoleShown } from '../api/types'
import { useDraft } from '../composables/useDraft'
import { editsOf, formOf } from '../support/role'
import ConditionField from './ConditionField.vue'
import PermissionsField from './PermissionsField.vue'
import TakeAway from './TakeAway.vue'

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
const parts = (text: string) =>
  text
    .split(',')
    .map((one) => one.trim())
    .filter(Boolean)
const at = (n: number | 'new', ...rest: string[]) => ['role', props.role.key, 'clause', `#${n}`, ...rest]

watch(
  () => props.role,
  (role) => {
    Object.assign(form, formOf(role))
    whens.splice(0, whens.length, ...role.clauses.map((one) => one.when ?? ''))
  },
  { immediate: true },
)

async function addClause() {
  const value = { permissions: parts(clause.permissions), when: clause.when.trim() }
  if (await draft.edit([{ path: at('new'), value }])) Object.assign(clause, { permissions: '', when: '' })
}
</script>

<template>
  <form class="sheet plain" aria-labelledby="change-role" @submit.prevent="draft.edit(edits)">
    <h2 id="change-role">Change it</h2>
    <div class="line">
      <label>Name<ElInput v-model="form.name" name="name" :placeholder="role.key" /></label>
      <label class="wide">What it is for<ElInput v-model="form.description" name="description" /></label>
    </div>
    <label
      >Includes
      <ElSelect v-model="form.includes" name="includes" multiple filterable placeholder="none"
        ><ElOption v-for="one in others" :key="one" :value="one" :label="one"
      /></ElSelect>
    </label>
    <fieldset>
      <legend>Held by</legend>
      <ElCheckboxGroup v-model="form.heldBy"
        ><ElCheckbox v-for="one in ['user', 'service']" :key="one" :value="one">{{ one }}s</ElCheckbox></ElCheckboxGroup
      >
      <ElCheckbox v-model="form.grantable">by grants, not only by relationships</ElCheckbox>
    </fieldset>
    <label
      >Granted at
      <ElSelect v-model="form.heldAt" name="held-at" multiple filterable placeholder="anywhere"
        ><ElOption v-for="one in places" :key="one" :value="one" :label="one"
      /></ElSelect>
    </label>
    <div class="line">
      <label
        >Without a grant, given to<ElSelect
          v-model="form.givenTo"
          name="given-to"
          filterable
          clearable
          :value-on-clear="''"
          placeholder="nobody"
        >
          <ElOption value="members" label="members of the resource’s tenant" />
          <ElOption value="signed-in" label="everyone signed in" />
          <ElOption value="anyone" label="anyone" /> </ElSelect
      ></label>
      <ConditionField v-model="form.when" label="All it gives, only when" name="when" />
    </div>
    <fieldset>
      <legend>Standby</legend>
      <ElCheckbox v-model="form.onStandby">its grants give nothing until they are activated</ElCheckbox>
    </fieldset>
    <div v-if="form.onStandby" class="line">
      <label>For at most<ElInput v-model="form.longest" name="longest" placeholder="2h" /></label>
      <ConditionField v-model="form.standbyWhen" label="While" placeholder="context.zone == 'quay'" />
      <ElCheckbox v-model="form.reason">with a reason</ElCheckbox>
      <ElCheckbox v-model="form.bySelf">by its holder too</ElCheckbox>
    </div>
    <p>
      <ElButton native-type="submit" type="primary" :disabled="!edits.length || !form.heldBy.length" :loading="draft.busy.value"
        >Write it into the draft</ElButton
      >
    </p>
  </form>
  <section class="sheet plain" aria-labelledby="clauses">
    <h2 id="clauses">What it gives under a condition of its own</h2>
    <form
      v-for="(one, n) in role.clauses"
      :key="n"
      class="line"
      @submit.prevent="draft.edit([{ path: at(n, 'when'), value: whens[n]!.trim() }])"
    >
      <ConditionField v-model="whens[n]!" :label="`${one.permissions.join(', ')}, only when`" />
      <ElButton native-type="submit" size="small" :disabled="!whens[n]?.trim() || whens[n] === one.when">Write it</ElButton>
      <TakeAway
        text="Take out"
        :name="`Take out clause ${n + 1}`"
        asks="What it gives is given no more, in this draft."
        answer="Take out"
        @confirmed="draft.edit([{ path: at(n) }])"
      />
    </form>
    <form class="line" aria-label="New clause" @submit.prevent="addClause">
      <PermissionsField v-model="clause.permissions" label="Permissions" name="clause-permissions" :model="model" />
      <ConditionField v-model="clause.when" label="only when" name="clause-when" placeholder="subject.clearance >= resource.hazard" />
      <ElButton native-type="submit" size="small" :disabled="!parts(clause.permissions).length || !clause.when.trim()"
        >Add the clause</ElButton
      >
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
