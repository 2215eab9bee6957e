<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Model } from '../api/types'
import { useDraft } from '../composables/useDraft'
import { KEY } from '../support/words'

/** What the tokens of an issuer mean, one claim at a time: in a draft. */
const props = defineProps<{ model: Model }>()
const draft = useDraft()
const issuer = ref('')
const applications = ref<string[]>([])
const about = ref('groups')
const claim = ref('')
const value = ref('')
const group = ref('')
const only = ref('')
const known = computed(() => props.model.issuers.find((one) => one.key === issuer.value))
const properties = (kind: string) => props.model.others.find((one) => one.key === kind)?.attributes ?? []
const abouts = computed(() => [
  { value: 'groups', label: 'a membership in a group' },
  { value: 'tenants', label: 'memberships in tenants' },
  { value: 'subject', label: 'who it is' },
  { value: 'session', label: 'the session' },
  ...properties('user').map((one) => ({ value: `subject.${one.key}`, label: `the attribute ${one.key}` })),
  ...properties('context').map((one) => ({ value: `context.${one.key}`, label: `context.${one.key}` })),
])
const words = (text: string) => text.split(/[\s,]+/).filter(Boolean)
const isReady = computed(() => {
  const isIssuer = known.value || (KEY.test(issuer.value) && applications.value.length > 0)
  const isWhole = about.value !== 'groups' || (value.value.trim() && group.value)
  return isIssuer && claim.value.trim() && isWhole
})

/** Where the claim is written, and what stands there. */
function said(): { path: string[]; value: unknown } {
  const name = claim.value.trim()
  const [part, field] = about.value.split('.')
  if (field) return { path: [part === 'subject' ? 'attributes' : 'context', field], value: name }
  if (part === 'groups') return { path: ['groups', '#new'], value: { claim: name, map: { [value.value.trim()]: group.value } } }
  if (part === 'tenants') return { path: ['tenants'], value: { claim: name, ...(only.value.trim() ? { only: words(only.value) } : {}) } }
  return { path: [part!], value: name }
}
async function write() {
  const { path, value: written } = said()
  const begins = known.value ? [] : [{ path: ['issuer', issuer.value, 'applications'], value: applications.value }]
  if (await draft.edit([...begins, { path: ['issuer', issuer.value, ...path], value: written }]))
    claim.value = value.value = only.value = ''
}
</script>

<template>
  <form class="sheet plain" aria-labelledby="meaning" @submit.prevent="write">
    <h2 id="meaning">Say what a claim means</h2>
    <div class="line">
      <label
        >Issuer<ElSelect v-model="issuer" name="meant" filterable allow-create placeholder="port-id"
          ><ElOption v-for="one in model.issuers" :key="one.key" :value="one.key" :label="one.key" /></ElSelect
      ></label>
      <label v-if="issuer && !known" class="wide"
        >With questions of<ElSelect v-model="applications" name="meant-for" multiple
          ><ElOption v-for="one in model.applications" :key="one.key" :value="one.key" :label="one.key" /></ElSelect
      ></label>
      <label class="about"
        >Vouches for<ElSelect v-model="about" name="vouches"
          ><ElOption v-for="one in abouts" :key="one.value" :value="one.value" :label="one.label" /></ElSelect
      ></label>
      <label>Claim<ElInput v-model="claim" name="claim" placeholder="groups" autocomplete="off" spellcheck="false" /></label>
      <template v-if="about === 'groups'">
        <label>Where it says<ElInput v-model="value" name="says" placeholder="Customs Night" autocomplete="off" /></label>
        <label
          >The group is<ElSelect v-model="group" name="group" filterable
            ><ElOption v-for="one in model.groups" :key="one" :value="one" :label="one" /></ElSelect
        ></label>
      </template>
      <label v-if="about === 'tenants'" class="wide"
        >Of these tenants only<ElInput v-model="only" name="only" placeholder="hallfjord, northline; nothing: all" autocomplete="off"
      /></label>
      <ElButton native-type="submit" :disabled="!isReady" :loading="draft.busy.value">Write it</ElButton>
    </div>
  </form>
</template>

<style scoped>
.sheet {
  margin: 0 0 16px;
  display: grid;
  gap: 8px;
}
.line > label {
  min-width: 9em;
}
.about {
  width: 16em;
}
.wide {
  flex: 1 1 14em;
}
</style>
