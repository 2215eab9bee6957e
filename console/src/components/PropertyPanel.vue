<script setup lang="ts">
import { ElButton } from 'element-plus'
import { reactive, watch } from 'vue'
import type { Property } from '../api/types'
import { useDraft } from '../composables/useDraft'
import { TYPES, attributeWritten, blank, formOf, inWords, relationWritten } from '../support/property'
import { KEY } from '../support/words'

/** Attributes or relations of one thing, each in words, and a form that writes one into the draft. */
const props = defineProps<{
  what: 'attribute' | 'relation'
  /** What conditions call the thing: `resource`, `subject`, `context` … */
  root: string
  /** The table they stand in. */
  path: string[]
  properties: Property[]
  /** The types a relation may lead to. */
  kinds?: string[]
  /** Where they are read from where nothing is said; none: they are sent along, and nothing else. */
  usual?: string
}>()
const draft = useDraft()
const start = () => blank(props.what === 'relation' ? 'user' : 'text')
const form = reactive(start())
const clear = () => Object.assign(form, start())
watch(() => props.path.join('.'), clear)

async function write() {
  const value = props.what === 'relation' ? relationWritten(form) : attributeWritten(form)
  if (await draft.edit([{ path: [...props.path, form.key], value }])) clear()
}

const isThere = (key: string) => props.properties.some((one) => one.key === key)
const title = props.what === 'relation' ? 'Relations' : 'Attributes'
</script>

<template>
  <section :aria-label="title">
    <h3>{{ root === 'context' ? 'What an application may send along' : title }}</h3>
    <table v-if="properties.length" class="rows">
      <tbody>
        <tr v-for="one in properties" :key="one.key">
          <td><code>{{ root }}.{{ one.key }}</code></td>
          <td>{{ inWords(one, usual ?? one.from, what === 'relation') }}</td>
          <td>
            <ElButton size="small" :aria-label="`Change ${one.key}`" @click="Object.assign(form, formOf(one, usual ?? one.from))">Change</ElButton>
            <ElButton size="small" :aria-label="`Take out ${one.key}`" @click="draft.edit([{ path: [...path, one.key] }])">Take out</ElButton>
          </td>
        </tr>
      </tbody>
    </table>
    <form class="plain line" :aria-label="`One ${what}`" @submit.prevent="write">
      <label>{{ isThere(form.key) ? `This ${what}` : `New ${what}` }}<input v-model.trim="form.key" :name="`new-${what}`" class="mono" autocomplete="off" /></label>
      <template v-if="what === 'attribute'">
        <label>Type<select v-model="form.kind"><option v-for="one in TYPES" :key="one">{{ one }}</option></select></label>
        <label class="check"><input v-model="form.many" type="checkbox" />several</label>
        <label>Only these values<input v-model="form.values" class="mono" placeholder="any" autocomplete="off" /></label>
        <label>Where nothing states it<input v-model="form.fallback" class="mono" placeholder="it is missing" autocomplete="off" /></label>
      </template>
      <template v-else>
        <label>To<input v-model="form.kind" class="mono" :list="`kinds-${what}`" autocomplete="off" /></label>
        <datalist :id="`kinds-${what}`"><option v-for="one in kinds ?? []" :key="one" :value="one" /></datalist>
        <label class="check"><input v-model="form.many" type="checkbox" />several</label>
        <label class="check"><input v-model="form.empty" type="checkbox" />empty where nothing states it</label>
        <label class="check"><input v-model="form.across" type="checkbox" />also into other tenants</label>
      </template>
      <label v-if="usual">Read from<select v-model="form.from">
        <option value="">as usual: {{ usual === 'either' ? 'register, else request' : usual }}</option>
        <option v-for="one in ['register', 'request', 'either'].filter((one) => one !== usual)" :key="one" :value="one">{{ one === 'either' ? 'register, else request' : `the ${one}` }}</option>
      </select></label>
      <ElButton native-type="submit" size="small" :disabled="!KEY.test(form.key) || !form.kind.trim()">{{ isThere(form.key) ? `Write the ${what}` : `Add the ${what}` }}</ElButton>
      <ElButton v-if="form.key" size="small" @click="clear">Leave it</ElButton>
    </form>
  </section>
</template>

<style scoped>
h3 {
  font-size: 14px;
  margin: 16px 0 0;
}
td:last-child {
  text-align: right;
  white-space: nowrap;
  padding-right: 0;
}
label input:not([type='checkbox']) {
  width: 11em;
}
</style>
