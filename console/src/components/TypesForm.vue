<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import type { Defined, Model, TypeShown } from '../api/types'
import { useDraft } from '../composables/useDraft'
import PropertyPanel from './PropertyPanel.vue'
import TakeAway from './TakeAway.vue'
import { KEY, counted } from '../support/words'

/** Applications and resource types as forms; each changes the same text as the editor. */
const emit = defineEmits<{ goTo: [Defined] }>()
/** Whether the text stands beside it, and goes where the form goes. */
const props = defineProps<{
  beside?: boolean
  /** What the text beside it is about, which it follows. */
  shown?: string
  /** What is live, only to be looked at. */
  live?: Model
}>()
const draft = useDraft()
const fixed = computed(() => Boolean(props.live))
const model = computed(() => props.live ?? draft.model.value)
type Action = TypeShown['actions'][number]
const route = useRoute()
const chosen = ref(typeof route.query.type === 'string' ? route.query.type : '')
const type = computed(() => model.value?.types.find((known) => known.key === chosen.value) ?? model.value?.types[0])
const others = computed(() => ['tenant', ...(model.value?.types ?? []).map((known) => known.key)])
const named = reactive({ name: '', within: [] as string[] })
const action = reactive({ key: '', description: '' })
const newType = reactive({ key: '', application: '' })
const newApplication = reactive({ key: '', name: '' })
/** What has properties and is no resource. */
const OTHERS: Record<string, string> = { user: 'Users', service: 'Services', tenant: 'Tenants', context: 'The context of a question' }
const roots: Record<string, string> = { user: 'subject', service: 'subject' }
const other = computed(() => model.value?.others.find((known) => known.key === chosen.value))

watch(
  type,
  (known: TypeShown | undefined) => {
    named.name = known && known.name !== known.key ? known.name : ''
    named.within = [...(known?.within ?? [])]
  },
  { immediate: true },
)

const at = (...path: string[]) => ['resource', type.value!.key, ...path]
const tableOf = (key: string, properties: string) => (key === 'tenant' ? ['tenant', properties] : ['subject', key, properties])
const set = (path: string[], value?: unknown) => draft.edit([{ path, value }])
const isKey = (text: string) => KEY.test(text)

async function describe() {
  const within = named.within.length > 1 ? named.within : named.within[0]
  await draft.edit([
    { path: at('name'), value: named.name.trim() || undefined },
    { path: at('within'), value: within },
  ])
}

async function addAction() {
  if (await set(at('actions', action.key), action.description || action.key)) Object.assign(action, { key: '', description: '' })
}

async function addType() {
  const value = { application: newType.application || model.value?.applications[0]?.key, actions: { view: 'See it' } }
  if (await set(['resource', newType.key], value)) {
    chosen.value = newType.key
    newType.key = ''
  }
}

async function addApplication() {
  if (await set(['application', newApplication.key], { name: newApplication.name || newApplication.key }))
    Object.assign(newApplication, { key: '', name: '' })
}

// Beside the text, that goes where the form goes, and the form where the cursor goes.
watch(
  () => (other.value ? undefined : type.value?.key),
  (key) => props.beside && key && key !== props.shown && goTo('type', key),
  { immediate: true },
)
watch(
  () => props.shown,
  (shown) => {
    const known = [...(model.value?.types ?? []), ...(model.value?.others ?? [])].some((one) => one.key === shown)
    if (shown && known) chosen.value = shown
  },
)

function goTo(kind: string, name: string) {
  const found = draft.outline.value.find((one) => one.kind === kind && one.name === name)
  if (found) emit('goTo', found)
}
</script>

<template>
  <p v-if="!model" class="sheet">The text has errors. Mend them in the charter text; the forms come back by themselves.</p>
  <div v-else class="sides plain">
    <nav class="sheet" aria-label="Types">
      <template v-for="application in model.applications" :key="application.key">
        <h2>{{ application.name }}</h2>
        <ul>
          <li v-for="known in model.types.filter((known) => known.application === application.key)" :key="known.key">
            <ElButton text class="pick" :aria-pressed="!other && known.key === type?.key" @click="chosen = known.key">{{
              known.key
            }}</ElButton>
            <span class="soft">{{ known.within.length ? `in ${known.within.join(', ')}` : 'nowhere' }}</span>
          </li>
        </ul>
      </template>
      <h2>Beside them</h2>
      <ul>
        <li v-for="one in model.others" :key="one.key">
          <ElButton text class="pick" :aria-pressed="one.key === chosen" @click="chosen = one.key">{{ one.key }}</ElButton>
          <span class="soft">{{
            counted(
              one.attributes.length + one.relations.length,
              one.key === 'context' ? 'key' : 'property',
              one.key === 'context' ? 'keys' : 'properties',
            )
          }}</span>
        </li>
      </ul>
      <form v-if="!fixed" class="line" @submit.prevent="addType">
        <label>New type<ElInput v-model.trim="newType.key" name="new-type" placeholder="lower-kebab" /></label>
        <label
          >of<ElSelect v-model="newType.application" filterable clearable :value-on-clear="''" :placeholder="model.applications[0]?.name"
            ><ElOption v-for="one in model.applications.slice(1)" :key="one.key" :value="one.key" :label="one.name" /></ElSelect
        ></label>
        <ElButton native-type="submit" size="small" :disabled="!isKey(newType.key) || !model.applications.length">Add the type</ElButton>
      </form>
      <form v-if="!fixed" class="line" @submit.prevent="addApplication">
        <label>New application<ElInput v-model.trim="newApplication.key" name="new-application" placeholder="lower-kebab" /></label>
        <label>Its name<ElInput v-model="newApplication.name" /></label>
        <ElButton native-type="submit" size="small" :disabled="!isKey(newApplication.key)">Add the application</ElButton>
      </form>
    </nav>
    <article v-if="other" class="sheet" aria-labelledby="other">
      <h2 id="other">{{ OTHERS[other.key] }}</h2>
      <PropertyPanel
        what="attribute"
        :root="roots[other.key] ?? other.key"
        :fixed="fixed"
        :path="other.key === 'context' ? ['context'] : tableOf(other.key, 'attributes')"
        :properties="other.attributes"
        :usual="other.key === 'context' ? undefined : 'register'"
      />
      <PropertyPanel
        v-if="other.key === 'user' || other.key === 'service'"
        what="relation"
        root="subject"
        :fixed="fixed"
        :path="tableOf(other.key, 'relations')"
        :properties="other.relations"
        :kinds="['user', 'service', 'group', ...others]"
        usual="register"
      />
    </article>
    <article v-else-if="type" class="sheet" aria-labelledby="type">
      <h2 id="type">
        <code>{{ type.key }}</code>
        <ElButton v-if="!fixed" size="small" class="aside" @click="goTo('type', type.key)">In the text</ElButton>
      </h2>
      <p v-if="fixed" class="soft">
        {{ type.name === type.key ? '' : `${type.name}. `
        }}{{ type.within.length ? `Lies within ${type.within.join(' or ')}` : 'Lies nowhere' }}.
      </p>
      <form v-else class="line" @submit.prevent="describe">
        <label>Name<ElInput v-model="named.name" :placeholder="type.key" /></label>
        <label class="wide"
          >Lies within
          <ElSelect v-model="named.within" name="within" multiple filterable placeholder="nowhere"
            ><ElOption v-for="outer in others" :key="outer" :value="outer" :label="outer"
          /></ElSelect>
        </label>
        <ElButton native-type="submit" size="small">Write it</ElButton>
      </form>
      <h3>Actions</h3>
      <ElTable :data="type.actions" row-key="key" :show-header="false" empty-text="Nothing can be done to it yet.">
        <ElTableColumn min-width="150"
          ><template #default="{ row }: { row: Action }"
            ><code>{{ type.key }}:{{ row.key }}</code></template
          ></ElTableColumn
        >
        <ElTableColumn prop="description" min-width="220" />
        <ElTableColumn v-if="!fixed" width="110" align="right">
          <template #default="{ row }: { row: Action }"
            ><TakeAway
              text="Take out"
              :name="`Take out ${row.key}`"
              :asks="`Nobody can be given ${type.key}:${row.key} any more, in this draft.`"
              answer="Take out"
              @confirmed="set(at('actions', row.key))"
          /></template>
        </ElTableColumn>
      </ElTable>
      <form v-if="!fixed" class="line" @submit.prevent="addAction">
        <label>New action<ElInput v-model.trim="action.key" name="new-action" /></label>
        <label class="wide">What it is<ElInput v-model="action.description" name="action-words" /></label>
        <ElButton native-type="submit" size="small" :disabled="!isKey(action.key)">Add the action</ElButton>
      </form>
      <PropertyPanel
        what="attribute"
        root="resource"
        :fixed="fixed"
        :path="at('attributes')"
        :properties="type.attributes"
        usual="either"
      />
      <PropertyPanel
        what="relation"
        root="resource"
        :fixed="fixed"
        :path="at('relations')"
        :properties="type.relations"
        :kinds="['user', 'service', 'group', ...others]"
        usual="register"
      />
    </article>
  </div>
</template>

<style scoped>
.sides {
  display: grid;
  grid-template-columns: minmax(220px, 300px) minmax(0, 1fr);
  gap: 16px;
  align-items: start;
}
ul {
  margin: 4px 0 12px;
  padding: 0;
  list-style: none;
}
h3 {
  font-size: 14px;
  margin: 16px 0 0;
}
h2 .aside {
  float: right;
}
nav .line {
  border-top: 1px solid var(--rule);
  padding-top: 8px;
  margin-top: 8px;
}
nav label {
  flex: 1 1 100px;
}
.wide {
  flex: 1 1 240px;
}
@media (max-width: 900px) {
  .sides {
    grid-template-columns: minmax(0, 1fr);
  }
}
@container (max-width: 700px) {
  .sides {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
