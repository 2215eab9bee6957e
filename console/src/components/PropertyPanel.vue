<script setup lang="ts">
import { computed, reactive, watch } from 'vue'
import type { Property } from '../api/types'
import { useDraft } from '../composables/useDraft'
import { SOURCES, TYPES, attributeWritten, blank, formOf, inWords, relationWritten } from '../support/property'
import { KEY } from '../support/words'
import TakeAway from './TakeAway.vue'

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
  /** It is only shown. */
  fixed?: boolean
}>()
const draft = useDraft()
/** Of a subject's attributes a token may vouch for some. */
const sources = computed(() => {
  const may = (one: string) => one !== props.usual && (!one.includes('token') || (props.root === 'subject' && props.what === 'attribute'))
  return Object.fromEntries(Object.entries(SOURCES).filter(([one]) => may(one)))
})
const start = () => blank(props.what === 'relation' ? 'user' : 'text')
const form = reactive(start())
const clear = () => Object.assign(form, start())
watch(() => props.path.join('.'), clear)

async function write() {
  const value = props.what === 'relation' ? relationWritten(form) : attributeWritten(form)
  if (await draft.edit([{ path: [...props.path, form.key], value }])) clear()
}

/** The types a relation may lead to, as the form lists them. */
const targets = computed({
  get: () =>
    form.kind
      .split(',')
      .map((one) => one.trim())
      .filter(Boolean),
  set: (all: string[]) => (form.kind = all.join(', ')),
})
const isThere = (key: string) => props.properties.some((one) => one.key === key)
const title = props.what === 'relation' ? 'Relations' : 'Attributes'
</script>

<template>
  <section :aria-label="title">
    <h3>{{ root === 'context' ? 'What an application may send along' : title }}</h3>
    <ElTable v-if="properties.length" :data="properties" row-key="key" :show-header="properties.length > 4">
      <ElTableColumn label="Name" prop="key" sortable min-width="150"
        ><template #default="{ row }: { row: Property }"
          ><code>{{ root }}.{{ row.key }}</code></template
        ></ElTableColumn
      >
      <ElTableColumn label="What it is" min-width="240"
        ><template #default="{ row }: { row: Property }">{{
          inWords(row, usual ?? row.from, what === 'relation')
        }}</template></ElTableColumn
      >
      <ElTableColumn v-if="!fixed" label="" width="180" align="right">
        <template #default="{ row }: { row: Property }">
          <ElButton size="small" :aria-label="`Change ${row.key}`" @click="Object.assign(form, formOf(row, usual ?? row.from))"
            >Change</ElButton
          >
          <TakeAway
            text="Take out"
            :name="`Take out ${row.key}`"
            :asks="`Nothing can state ${root}.${row.key} any more, in this draft.`"
            answer="Take out"
            @confirmed="draft.edit([{ path: [...path, row.key] }])"
          />
        </template>
      </ElTableColumn>
    </ElTable>
    <p v-else-if="fixed" class="soft">None.</p>
    <form v-if="!fixed" class="plain line" :aria-label="`One ${what}`" @submit.prevent="write">
      <label
        >{{ isThere(form.key) ? `This ${what}` : `New ${what}` }}<ElInput v-model.trim="form.key" :name="`new-${what}`" autocomplete="off"
      /></label>
      <template v-if="what === 'attribute'">
        <label
          >Type<ElSelect v-model="form.kind" filterable><ElOption v-for="one in TYPES" :key="one" :value="one" :label="one" /></ElSelect
        ></label>
        <ElCheckbox v-model="form.many">several</ElCheckbox>
        <label>Only these values<ElInput v-model="form.values" placeholder="any" autocomplete="off" /></label>
        <label>Where nothing states it<ElInput v-model="form.fallback" placeholder="it is missing" autocomplete="off" /></label>
      </template>
      <template v-else>
        <label
          >To<ElSelect v-model="targets" multiple filterable name="to"
            ><ElOption v-for="one in kinds ?? []" :key="one" :value="one" :label="one" /></ElSelect
        ></label>
        <ElCheckbox v-model="form.many">several</ElCheckbox>
        <ElCheckbox v-model="form.empty">empty where nothing states it</ElCheckbox>
        <ElCheckbox v-model="form.across">also into other tenants</ElCheckbox>
      </template>
      <label v-if="usual"
        >Read from<ElSelect
          v-model="form.from"
          filterable
          clearable
          :value-on-clear="''"
          :placeholder="`as usual: ${SOURCES[usual as keyof typeof SOURCES]}`"
        >
          <ElOption v-for="(label, one) in sources" :key="one" :value="one" :label="label" /> </ElSelect
      ></label>
      <ElButton native-type="submit" size="small" :disabled="!KEY.test(form.key) || !form.kind.trim()">{{
        isThere(form.key) ? `Write the ${what}` : `Add the ${what}`
      }}</ElButton>
      <ElButton v-if="form.key" size="small" @click="clear">Leave it</ElButton>
    </form>
  </section>
</template>

<style scoped>
h3 {
  font-size: 14px;
  margin: 16px 0 0;
}
</style>
