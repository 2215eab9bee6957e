<script setup lang="ts">
import { computed, reactive, ref } from 'vue'
import { api } from '../api/calls'
import { Refused } from '../api/client'
import type { EntityLine, Model } from '../api/types'
import { useAsync } from '../composables/useAsync'
import { type GuaranteeSaid, caseText, guaranteeSentence, guaranteeText, sampleOf, sampleText } from '../support/rehearsing'
import ConditionField from './ConditionField.vue'
import EntityForm from './EntityForm.vue'
import FailureNote from './FailureNote.vue'
import MomentField from './MomentField.vue'
import NameField from './NameField.vue'
import PermissionsField from './PermissionsField.vue'

/** A guarantee, a case or a sample by a form; what it says is written into the text that is open. */
defineProps<{ model: Model; into: string }>()
const emit = defineEmits<{ write: [string] }>()
const what = ref<'guarantee' | 'case' | 'sample'>('guarantee')
const kinds = [
  { value: 'guarantee', label: 'A guarantee' },
  { value: 'case', label: 'A case' },
  { value: 'sample', label: 'A sample' },
]
const claims = [
  { value: 'never', label: 'nobody ever may' },
  { value: 'always', label: 'everybody always may' },
  { value: 'alike', label: 'whoever may one may the other:' },
]
const guarantee = reactive({ name: '', claim: 'never' as GuaranteeSaid['claim'], permissions: '', when: '', assume: '' })
const one = reactive({ name: '', as: '', on: '', may: '', mayNot: '', now: '', because: '' })
const sample = ref('')
const registered = useAsync(api.wholeEntity)
const line = ref<EntityLine>()
const isUnknown = computed(() => registered.error.value instanceof Refused && registered.error.value.status === 404)
const list = (text: string) =>
  text
    .split(',')
    .map((each) => each.trim())
    .filter(Boolean)
const said = computed(() => ({ ...guarantee, permissions: list(guarantee.permissions) }))
const wanted = computed(() => (guarantee.claim === 'alike' ? 2 : 1))

function writeGuarantee() {
  emit('write', guaranteeText(said.value))
  Object.assign(guarantee, { name: '', permissions: '', when: '', assume: '' })
}

function writeCase() {
  emit('write', caseText({ ...one, may: list(one.may), mayNot: list(one.mayNot) }))
  Object.assign(one, { name: '', may: '', mayNot: '', because: '' })
}

/** Begins with what is registered under the name, if anything is. */
async function begin() {
  const name = sample.value.trim()
  const found = await registered.run(name)
  if (found) line.value = found.entity
  else if (isUnknown.value) line.value = { entity: name }
}

function writeSample(written: EntityLine) {
  const found = registered.data.value
  emit('write', sampleText(found ? { ...sampleOf(found), line: written } : { line: written, groups: [], grants: [] }))
  line.value = undefined
  sample.value = ''
}
</script>

<template>
  <section class="sheet plain" aria-labelledby="by-form">
    <h2 id="by-form">By a form, into {{ into }}</h2>
    <ElSegmented v-model="what" :options="kinds" aria-label="What to write" />
    <form v-if="what === 'guarantee'" aria-label="A guarantee" @submit.prevent="writeGuarantee">
      <div class="line">
        <label class="claim"
          >That<ElSelect v-model="guarantee.claim" name="claim">
            <ElOption v-for="claim in claims" :key="claim.value" :value="claim.value" :label="claim.label" /> </ElSelect
        ></label>
        <PermissionsField v-model="guarantee.permissions" label="do what" name="guaranteed" :model="model" />
      </div>
      <div class="line">
        <ConditionField v-model="guarantee.when" label="where (a condition)" name="where" placeholder="resource.held" />
        <ConditionField v-model="guarantee.assume" label="assuming (a condition)" name="assume" placeholder="nothing" />
      </div>
      <p class="sentence" role="status">{{ guaranteeSentence(said) }}</p>
      <div class="line">
        <label class="name">Called<ElInput v-model.trim="guarantee.name" name="guarantee" maxlength="400" autocomplete="off" /></label>
        <ElButton native-type="submit" type="primary" :disabled="!guarantee.name || said.permissions.length !== wanted"
          >Write it into the text</ElButton
        >
      </div>
    </form>
    <form v-else-if="what === 'case'" aria-label="A case" @submit.prevent="writeCase">
      <div class="line">
        <NameField v-model="one.as" label="As" placeholder="user:ines" :width="16" :types="['user', 'service']" />
        <NameField v-model="one.on" label="On" placeholder="manifest:m-204, or nothing" :width="18" />
        <MomentField v-model="one.now" label="At" placeholder="the rehearsal’s moment" />
      </div>
      <div class="line">
        <PermissionsField v-model="one.may" label="may" name="may" :model="model" />
        <PermissionsField v-model="one.mayNot" label="may not" name="may-not" :model="model" />
      </div>
      <div class="line">
        <label>Because<ElInput v-model.trim="one.because" placeholder="role:inspector" autocomplete="off" /></label>
        <label class="name">Called<ElInput v-model.trim="one.name" name="case" maxlength="400" autocomplete="off" /></label>
        <ElButton native-type="submit" type="primary" :disabled="!one.name || !one.as || !(one.may || one.mayNot)"
          >Write it into the text</ElButton
        >
      </div>
    </form>
    <template v-else>
      <form class="line" aria-label="A sample" @submit.prevent="begin">
        <NameField v-model="sample" label="Who or what" placeholder="user:ines, or a new name" :width="18" />
        <ElButton native-type="submit" :disabled="!/^[^:]+:.+/.test(sample.trim())" :loading="registered.busy.value"
          >Begin with it</ElButton
        >
      </form>
      <FailureNote v-if="registered.error.value && !isUnknown" :error="registered.error.value" />
      <template v-if="line">
        <p class="soft" role="status">
          {{
            registered.data.value
              ? `As ${line.entity} is registered, with its groups and grants. Changed here it is changed in the rehearsal alone.`
              : `${line.entity} is not registered: it is made up, for the rehearsal alone.`
          }}
        </p>
        <EntityForm :model="model" :line="line" @write="writeSample" />
      </template>
    </template>
  </section>
</template>

<style scoped>
section,
form {
  display: grid;
  gap: 10px;
  justify-items: stretch;
}
form.line {
  display: flex;
}
.claim {
  flex: 0 1 16em;
}
.name {
  flex: 1 1 18em;
}
.sentence {
  font: 17px/1.4 var(--serif);
  margin: 0;
}
p {
  margin: 0;
}
</style>
