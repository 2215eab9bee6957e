<script setup lang="ts">
import { computed, nextTick, onMounted, reactive, ref } from 'vue'
import { api } from '../api/calls'
import type { AskedLately, Model } from '../api/types'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'
import { useNarrowed } from '../composables/useNarrowed'
import { KEY, counted, moment } from '../support/words'
import DraftGate from './DraftGate.vue'
import FailureNote from './FailureNote.vue'
import NarrowField from './NarrowField.vue'
import PermissionsField from './PermissionsField.vue'
import RouteCheck from './RouteCheck.vue'
import TakeAway from './TakeAway.vue'

/** Which request needs what, and what an interface shows. */
const props = defineProps<{ model: Model }>()
const draft = useDraft()
type Route = Model['routes'][number] & { at: number }
type Affordance = Model['affordances'][number]
/** Each with its place, by which it is taken out. */
const routes = computed(() => props.model.routes.map((one, at): Route => ({ ...one, at })))
const { narrow, shown } = useNarrowed(routes, (one) => `${one.application} ${one.method} ${one.path} ${one.needs.join(' ')} ${one.of}`)
const permissions = computed(() => props.model.types.flatMap((type) => type.actions.map((action) => `${type.key}:${action.key}`)))
const METHODS = ['GET', 'POST', 'PUT', 'PATCH', 'DELETE', 'HEAD', 'OPTIONS']
const ABOUT = [
  { value: 'named', label: 'the one it names' },
  { value: 'new', label: 'a new one' },
  { value: 'any', label: 'any one' },
  { value: 'open', label: 'nothing: it is open' },
  { value: 'refused', label: 'nothing: it is refused' },
]
const route = reactive({ application: '', method: 'GET', path: '', needs: '', about: 'named', of: '', within: '' })
const shows = reactive({ application: '', key: '', name: '', visible: '', enabled: '', under: '' })
const needs = computed(() =>
  route.needs
    .split(',')
    .map((one) => one.trim())
    .filter(Boolean),
)
const asks = computed(() => !['open', 'refused'].includes(route.about))
const type = computed(() => needs.value[0]?.split(':')[0] ?? '')
const isReady = computed(
  () =>
    route.application &&
    route.path.startsWith('/') &&
    (!asks.value || (needs.value.length > 0 && (route.about !== 'named' || route.of.includes(':')))),
)

const asked = useAsync(api.asked)
type Unmapped = AskedLately['unmapped'][number]
const form = ref<HTMLFormElement>()
onMounted(asked.run)

/** A request that no route takes becomes the next route of the form: what it needs is still to be said. */
async function map(one: Unmapped) {
  if (!draft.draft.value && !(await draft.begin(`A route for ${one.method} ${one.pattern}`))) return
  Object.assign(route, { application: one.application, method: one.method, path: one.pattern, about: 'named' })
  await nextTick()
  form.value?.scrollIntoView({ block: 'center' })
  form.value?.querySelector<HTMLInputElement>('[name=path]')?.focus()
}

function about() {
  if (route.about === 'named') return route.of.trim()
  const within = route.within.trim() ? { within: route.within.trim() } : {}
  return route.about === 'any' ? { any: type.value, ...within } : { new: type.value, ...within }
}
async function addRoute() {
  const { application, method, path } = route
  const nothing = route.about === 'open' ? { open: true } : { refuse: true }
  const what = !asks.value ? nothing : { needs: needs.value, resource: about() }
  if (await draft.edit([{ path: ['route', '#new'], value: { application, method, path: path.trim(), ...what } }]))
    Object.assign(route, { path: '', needs: '', of: '', within: '' })
}
async function addAffordance() {
  const said = Object.entries(shows).filter(([key, text]) => key !== 'key' && text.trim())
  const edits = said.map(([key, text]) => ({ path: ['affordance', shows.key, key], value: text.trim() }))
  if (await draft.edit(edits)) Object.assign(shows, { key: '', name: '', visible: '', enabled: '', under: '' })
}
</script>

<template>
  <section class="sheet" aria-labelledby="routes">
    <h2 id="routes">Routes: which request needs what</h2>
    <p v-if="!model.routes.length">None yet. An import of an API description suggests them, under Describe.</p>
    <template v-else>
      <NarrowField v-model="narrow" :shown="shown.length" :of="routes.length" what="routes" />
      <ElTable :data="shown" row-key="at" max-height="520">
        <ElTableColumn label="Request" sortable sort-by="path" min-width="260"
          ><template #default="{ row }: { row: Route }"
            ><code>{{ row.method }} {{ row.path }}</code
            ><span v-if="row.gives_way_to.length" class="soft way">gives way to {{ row.gives_way_to.join(', ') }}</span></template
          ></ElTableColumn
        >
        <ElTableColumn label="Application" prop="application" sortable min-width="120" />
        <ElTableColumn label="Needs" min-width="300"
          ><template #default="{ row }: { row: Route }"
            ><template v-if="row.needs.length"
              ><code>{{ row.needs.join(' and ') }}</code> <span class="soft">of {{ row.of }}</span></template
            ><span v-else-if="row.refused" class="soft">refused, whoever asks</span
            ><span v-else class="undetermined">open to everybody</span></template
          ></ElTableColumn
        >
        <ElTableColumn v-if="draft.draft.value" label="" width="110" align="right"
          ><template #default="{ row }: { row: Route }"
            ><TakeAway
              text="Take out"
              :name="`Take out ${row.method} ${row.path}`"
              asks="A request there then has no route, in this draft."
              answer="Take out"
              @confirmed="draft.edit([{ path: ['route', `#${row.at}`] }])" /></template
        ></ElTableColumn>
      </ElTable>
    </template>
  </section>
  <RouteCheck :model="model" :methods="METHODS" />
  <section class="sheet" aria-labelledby="unmapped">
    <h2 id="unmapped">Unmapped: what no route takes</h2>
    <FailureNote v-if="asked.error.value" :error="asked.error.value" />
    <p v-else-if="!asked.data.value?.unmapped.length" class="soft">
      Nothing so far. A proxy’s request that no route takes is refused, and counted here without its ids.
    </p>
    <ElTable v-else :data="asked.data.value.unmapped" :row-key="(row: Unmapped) => `${row.application} ${row.method} ${row.pattern}`">
      <ElTableColumn label="Request" min-width="260"
        ><template #default="{ row }: { row: Unmapped }"
          ><code>{{ row.method }} {{ row.pattern }}</code></template
        ></ElTableColumn
      >
      <ElTableColumn label="Application" prop="application" sortable min-width="120" />
      <ElTableColumn label="Refused" sortable sort-by="count" min-width="220"
        ><template #default="{ row }: { row: Unmapped }"
          >{{ counted(row.count, 'time') }} <span class="soft">last {{ moment(row.last) }}</span></template
        ></ElTableColumn
      >
      <ElTableColumn label="" width="110" align="right"
        ><template #default="{ row }: { row: Unmapped }"
          ><ElButton size="small" :aria-label="`Map ${row.method} ${row.pattern}`" @click="map(row)">Map it</ElButton></template
        ></ElTableColumn
      >
    </ElTable>
  </section>
  <section class="sheet" aria-labelledby="affordances">
    <h2 id="affordances">Affordances: what an interface shows and enables</h2>
    <p v-if="!model.affordances.length">None yet.</p>
    <ElTable v-else :data="model.affordances" row-key="key">
      <ElTableColumn label="What" sortable sort-by="key" min-width="220"
        ><template #default="{ row }: { row: Affordance }"
          >{{ row.name }} <code class="soft">{{ row.key }}</code></template
        ></ElTableColumn
      >
      <ElTableColumn label="Application" prop="application" sortable min-width="120" />
      <ElTableColumn label="Shown by" prop="visible" sortable min-width="180" />
      <ElTableColumn label="Enabled by" prop="enabled" sortable min-width="180" />
      <ElTableColumn label="Hidden with" prop="under" min-width="140" />
      <ElTableColumn v-if="draft.draft.value" label="" width="110" align="right"
        ><template #default="{ row }: { row: Affordance }"
          ><TakeAway
            text="Take out"
            :name="`Take out ${row.key}`"
            asks="Nobody is told of it any more, in this draft."
            answer="Take out"
            @confirmed="draft.edit([{ path: ['affordance', row.key] }])" /></template
      ></ElTableColumn>
    </ElTable>
  </section>
  <DraftGate what="Routes and affordances are changed in a draft.">
    <form ref="form" class="sheet plain" aria-labelledby="new-route" @submit.prevent="addRoute">
      <h2 id="new-route">Another route</h2>
      <div class="line">
        <label
          >Application<ElSelect v-model="route.application" name="route-of"
            ><ElOption v-for="one in model.applications" :key="one.key" :value="one.key" :label="one.key" /></ElSelect
        ></label>
        <label
          >Method<ElSelect v-model="route.method" name="method"><ElOption v-for="one in METHODS" :key="one" :value="one" /></ElSelect
        ></label>
        <label class="wide">Path<ElInput v-model="route.path" name="path" placeholder="/manifests/{manifest}" autocomplete="off" /></label>
        <label class="about"
          >About<ElSelect v-model="route.about" name="about"
            ><ElOption v-for="one in ABOUT" :key="one.value" :value="one.value" :label="one.label" /></ElSelect
        ></label>
      </div>
      <div class="line">
        <PermissionsField v-if="asks" v-model="route.needs" label="Needs" name="needs" :model="model" />
        <label v-if="route.about === 'named'" class="wide"
          >Of<ElInput v-model="route.of" name="of-what" placeholder="manifest:{manifest}" autocomplete="off"
        /></label>
        <label v-if="['new', 'any'].includes(route.about)" class="wide"
          >Within<ElInput v-model="route.within" name="within-what" placeholder="voyage:{voyage}, or nothing" autocomplete="off"
        /></label>
        <ElButton native-type="submit" :disabled="!isReady" :loading="draft.busy.value">Add the route</ElButton>
      </div>
    </form>
    <form class="sheet plain" aria-labelledby="new-affordance" @submit.prevent="addAffordance">
      <h2 id="new-affordance">Another affordance</h2>
      <div class="line">
        <label
          >Application<ElSelect v-model="shows.application" name="affordance-of"
            ><ElOption v-for="one in model.applications" :key="one.key" :value="one.key" :label="one.key" /></ElSelect
        ></label>
        <label>Key<ElInput v-model.trim="shows.key" name="affordance" placeholder="release-button" autocomplete="off" /></label>
        <label class="wide">Name<ElInput v-model="shows.name" placeholder="Release the cargo" autocomplete="off" /></label>
      </div>
      <div class="line">
        <label v-for="which in ['visible', 'enabled'] as const" :key="which" class="wide"
          >{{ which === 'visible' ? 'Shown by' : 'Enabled by'
          }}<ElSelect v-model="shows[which]" :name="which" filterable clearable :value-on-clear="''"
            ><ElOption v-for="one in permissions" :key="one" :value="one" /></ElSelect
        ></label>
        <label
          >Hidden with<ElSelect v-model="shows.under" name="under" clearable :value-on-clear="''" placeholder="nothing"
            ><ElOption v-for="one in model.affordances" :key="one.key" :value="one.key" /></ElSelect
        ></label>
        <ElButton native-type="submit" :disabled="!shows.application || !KEY.test(shows.key) || !shows.visible" :loading="draft.busy.value"
          >Add the affordance</ElButton
        >
      </div>
    </form>
  </DraftGate>
</template>

<style scoped>
.sheet {
  margin-bottom: 16px;
}
form {
  display: grid;
  gap: 10px;
}
.way {
  display: block;
}
.wide {
  flex: 1 1 14em;
}
.line > label {
  min-width: 9em;
}
.about {
  width: 15em;
}
</style>
