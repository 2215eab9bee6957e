<script setup lang="ts">
import { computed, defineAsyncComponent, onMounted, ref, watch } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api } from '../api/calls'
import BesidePanel from '../components/BesidePanel.vue'
import FailureNote from '../components/FailureNote.vue'
import GiveForm from '../components/GiveForm.vue'
import GroupPanel from '../components/GroupPanel.vue'
import HoldingTable from '../components/HoldingTable.vue'
import PlaceField from '../components/PlaceField.vue'
import StandbyPanel from '../components/StandbyPanel.vue'
import TenantRoles from '../components/TenantRoles.vue'
import { useAsync } from '../composables/useAsync'
import { useStatus } from '../composables/useStatus'
import { happened } from '../support/happened'
import { counted } from '../support/words'
import PartTabs from '../components/PartTabs.vue'

const GrantsChart = defineAsyncComponent(() => import('../components/GrantsChart.vue'))
const route = useRoute()
const router = useRouter()
const status = useStatus()
const model = useAsync(() => api.model())
const held = useAsync(api.holdings)
const ended = useAsync(api.endGrant)
const made = useAsync(api.tenantRoles)
const place = ref('')
/** Which role the address narrows it to. */
const role = computed({
  get: () => (typeof route.query.role === 'string' ? route.query.role : ''),
  set: (key: string) => void router.push({ query: { ...route.query, role: key || undefined, after: undefined } }),
})
const parts = [
  { part: '', text: 'Who holds what' },
  { part: 'standby', text: 'Standby' },
  { part: 'groups', text: 'Groups' },
  { part: 'tenant-roles', text: 'Tenants’ roles' },
  { part: 'beside', text: 'Side by side' },
]
const at = computed(() => (typeof route.query.at === 'string' && route.query.at ? route.query.at : 'everywhere'))
const after = computed(() => Number(route.query.after ?? 0))
const keys = computed(() => made.data.value?.items.map(({ 'tenant-role': one }) => `${one.tenant}/${one.key}`) ?? [])

const around = useAsync(api.around)
const related = computed(() => (around.data.value?.relations ?? []).filter((one) => one.confers.length && one.to.length))
/** What its type confers otherwise: by a role held elsewhere, or under a condition. */
const conferring = computed(() =>
  around.data.value ? (model.data.value?.confers ?? []).filter((one) => one.kind === at.value.split(':')[0]) : [],
)

const look = () => held.run({ at: at.value, role: role.value || undefined, after: after.value || undefined })
onMounted(() => {
  void model.run()
  void made.run()
})
watch(
  [at, after, role],
  () => {
    place.value = at.value
    around.clear()
    if (at.value.includes(':')) void around.run(at.value)
    void look()
  },
  { immediate: true },
)

function show(query: Record<string, string>) {
  void router.push({ name: 'give', query })
}

async function end(id: string) {
  const grant = held.data.value?.items.find((one) => one.grant.id === id)?.grant
  if (!(await ended.run(id, ''))) return
  if (grant) happened(`${grant.role} of ${grant.to} ended`, { back: () => api.giveAgain(grant), then: look })
  void status.run()
  await look()
}
</script>

<template>
  <h1>Give</h1>
  <PartTabs area="give" label="Parts of Give" :parts="parts" />
  <FailureNote v-if="model.error.value" :error="model.error.value" />
  <BesidePanel v-if="route.params.part === 'beside'" />
  <GroupPanel v-else-if="route.params.part === 'groups'" />
  <template v-else-if="model.data.value">
    <StandbyPanel v-if="route.params.part === 'standby'" :model="model.data.value" />
    <TenantRoles v-else-if="route.params.part === 'tenant-roles'" :model="model.data.value" />
    <template v-else>
      <section class="sheet" aria-labelledby="held">
        <form class="plain line" aria-label="Place" @submit.prevent="show({ at: place.trim() })">
          <PlaceField v-model="place" label="At" name="place" :width="22" />
          <label
            >Role<ElSelect v-model="role" filterable clearable :value-on-clear="''" placeholder="any"
              ><ElOption v-for="known in model.data.value.roles" :key="known.key" :value="known.key" :label="known.key" /></ElSelect
          ></label>
          <ElButton native-type="submit">Show</ElButton>
        </form>
        <FailureNote v-if="held.error.value ?? ended.error.value" :error="(held.error.value ?? ended.error.value)!" />
        <template v-if="held.data.value">
          <div role="status">
            <h2 id="held">
              {{ counted(held.data.value.total, 'grant') }} {{ held.data.value.total === 1 ? 'arrives' : 'arrive' }} at {{ at }}
            </h2>
          </div>
          <p class="soft">
            From
            <template v-for="(outer, n) in held.data.value.from" :key="outer"
              ><template v-if="n">, then </template
              ><ElButton link class="name" @click="show({ at: outer })">{{ outer }}</ElButton></template
            >. Soonest end first.
          </p>
          <HoldingTable v-if="held.data.value.items.length" :items="held.data.value.items" :at="at" @end="end" />
          <p v-else>Nothing arrives here by a grant. Give a role below, or choose another place.</p>
          <details v-if="held.data.value.items.some((one) => one.grant.until || one.grant.from)">
            <summary>On one line of time</summary>
            <GrantsChart :items="held.data.value.items" />
          </details>
          <ElButton v-if="after" size="small" @click="show({ at, ...(role ? { role } : {}), after: String(Math.max(after - 100, 0)) })"
            >Sooner</ElButton
          >
          <ElButton
            v-if="held.data.value.next"
            size="small"
            @click="show({ at, ...(role ? { role } : {}), after: String(held.data.value.next) })"
            >Later</ElButton
          >
        </template>
        <p v-else-if="held.busy.value" class="soft">Reading the grants …</p>
      </section>
      <section v-if="conferring.length || related.length" class="sheet" aria-labelledby="related">
        <h2 id="related">By relationship at {{ at }}, without a grant</h2>
        <ul>
          <li v-for="one in related" :key="one.relation">
            <template v-for="(name, n) in one.to" :key="name"
              ><template v-if="n">, </template
              ><RouterLink :to="{ name: 'entity', params: { name } }" class="mono">{{ name }}</RouterLink></template
            >
            {{ one.to.length === 1 ? 'holds' : 'hold' }} <strong>{{ one.confers.join(', ') }}</strong>, as its {{ one.relation
            }}<span v-if="one.count > one.to.length" class="soft">; {{ counted(one.count, 'name') }} in all</span>
          </li>
          <li v-for="one in conferring" :key="one.sentence + one.role" class="soft">{{ one.sentence }} {{ one.role }}</li>
        </ul>
      </section>
      <GiveForm :model="model.data.value" :at="at" :made="keys" @given="look" />
    </template>
  </template>
</template>

<style scoped>
.sheet {
  margin-bottom: 16px;
}
h2 {
  margin-top: 14px;
}
p,
ul {
  margin: 4px 0;
}
ul {
  list-style: none;
  padding: 0;
}
</style>
