<script setup lang="ts">
import { computed, ref } from 'vue'
import { api } from '../api/calls'
import type { Model } from '../api/types'
import FailureNote from './FailureNote.vue'
import FileButton from './FileButton.vue'
import { useAsync } from '../composables/useAsync'

/** An issuer to set up: where its tokens come from, and for whom they are. */
const props = defineProps<{ model: Model; missing: Model['issuers'] }>()
const emit = defineEmits<{ added: [] }>()
const { busy, error, run } = useAsync(api.addIssuer)
const issuer = ref('')
const address = ref('')
const audiences = ref<Record<string, string>>({})
const keys = ref<{ name: string; text: string }>()
const isPrivate = ref(false)
const idTokens = ref(false)
const operators = ref(false)
const client = ref('')
const meant = computed(() => props.model.issuers.find((one) => one.key === issuer.value))
/** Of an issuer that the charter knows, its applications; of another, all. */
const applications = computed(() => meant.value?.applications ?? props.model.applications.map((one) => one.key))
const forWhom = computed(() => {
  const all = applications.value.map((key) => [key, (audiences.value[key] ?? '').split(/[\s,]+/).filter(Boolean)] as const)
  return Object.fromEntries(all.filter(([, some]) => some.length))
})
const isFor = computed(() => (operators.value ? client.value.trim() : Object.keys(forWhom.value).length))
const isReady = computed(() => issuer.value && address.value.trim() && isFor.value)

async function add() {
  const asked = { key: issuer.value, url: address.value.trim(), audiences: forWhom.value, private: isPrivate.value }
  const signIn = operators.value ? { operators: true, client: client.value.trim() } : {}
  const more = { ...signIn, ...(keys.value ? { keys: keys.value.text } : {}) }
  if (!(await run({ ...asked, 'id-tokens': idTokens.value, ...more }))) return
  issuer.value = address.value = client.value = ''
  operators.value = false
  audiences.value = {}
  keys.value = undefined
  emit('added')
}
async function read(file: File) {
  keys.value = { name: file.name, text: await file.text() }
}
</script>

<template>
  <form class="sheet plain" aria-labelledby="new-issuer" @submit.prevent="add">
    <h2 id="new-issuer">Set one up</h2>
    <div class="line">
      <label
        >Key<ElSelect v-model="issuer" name="issuer" filterable allow-create placeholder="port-id"
          ><ElOption v-for="one in missing" :key="one.key" :value="one.key" :label="one.key" /></ElSelect
      ></label>
      <label class="wide"
        >Address, as its tokens say it (iss)<ElInput
          v-model="address"
          name="url"
          placeholder="https://sign-in.sorrel-bay.example"
          autocomplete="off"
          spellcheck="false"
      /></label>
    </div>
    <div class="line">
      <label v-for="key in applications" :key="key" class="wide"
        >Audience for {{ key
        }}<ElInput v-model="audiences[key]" :name="`audience-${key}`" autocomplete="off" spellcheck="false" placeholder="none"
      /></label>
    </div>
    <div class="line">
      <FileButton text="Keys from a file …" accept=".json,.jwks,.pem" @chosen="read" />
      <span class="soft">{{ keys?.name ?? 'else they are had from where it says they are' }}</span>
      <ElCheckbox v-model="isPrivate" label="at a private address" />
      <ElCheckbox v-model="idTokens" label="its ID tokens count" />
      <ElCheckbox v-model="operators" label="operators sign in with it" />
      <label v-if="operators"
        >as client<ElInput v-model="client" name="client" autocomplete="off" spellcheck="false" placeholder="ostrog-console"
      /></label>
      <ElButton native-type="submit" type="primary" :disabled="!isReady" :loading="busy">Set it up</ElButton>
    </div>
    <FailureNote v-if="error" :error="error" />
  </form>
</template>

<style scoped>
.sheet {
  margin: 0 0 16px;
}
form {
  display: grid;
  gap: 10px;
}
.wide {
  flex: 1 1 16em;
}
</style>
