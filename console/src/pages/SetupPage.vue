<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { RouterLink, useRoute } from 'vue-router'
import { api } from '../api/calls'
import type { IssuerShown, NodeShown, Settings } from '../api/types'
import AsCommand from '../components/AsCommand.vue'
import AskFirst from '../components/AskFirst.vue'
import FailureNote from '../components/FailureNote.vue'
import PartTabs from '../components/PartTabs.vue'
import { useAsync } from '../composables/useAsync'
import { useStatus } from '../composables/useStatus'
import { tellRights } from '../support/rights'
import { counted, moment } from '../support/words'

/** How the workspace is set: how changes are released, who operates, which nodes there are. */
const route = useRoute()
const part = computed(() => String(route.params.part ?? ''))
const status = useStatus()
const settings = useAsync(api.settings)
const nodes = useAsync(api.nodes)
const keys = useAsync(api.keys)
const issuers = useAsync(api.issuers)
const withIssuers = computed(() => issuers.data.value?.filter((one) => one.operators) ?? [])
const would = useAsync(api.putSettings)
const put = useAsync(api.putSettings)
const approved = useAsync(api.approve)
const returned = useAsync(api.giveBack)
const text = ref('')
const note = ref('')
const putting = ref(false)
const PARTS = [
  { part: '', text: 'Settings' },
  { part: 'operators', text: 'Operators' },
  { part: 'nodes', text: 'Nodes' },
]
const isChanged = computed(() => settings.data.value && text.value !== settings.data.value.text)
const waits = computed(() => settings.data.value?.history.find((one) => one.state === 'waiting'))
const operators = computed(() => keys.data.value?.filter((key) => !key.application && !key.proxy) ?? [])
const most = computed(() => Math.max(0, ...(nodes.data.value ?? []).map((node) => node.position)))
type Put = Settings['history'][number]

async function look() {
  const before = settings.data.value?.text
  const [found] = await Promise.all([settings.run(), nodes.run(), keys.run(), issuers.run()])
  // What is being written stays.
  if (found && (before === undefined || text.value === before)) text.value = found.text
}
watch(() => status.data.value?.position, look, { immediate: true })

async function ask() {
  put.clear()
  await would.run({ text: text.value, from: settings.data.value!.number, check: true })
  putting.value = Boolean(would.data.value)
}
async function send() {
  const more = note.value.trim() ? { note: note.value.trim() } : {}
  const done = await put.run({ text: text.value, from: settings.data.value!.number, ...more })
  putting.value = false
  if (!done) return
  note.value = ''
  await look()
  text.value = settings.data.value?.text ?? text.value
}
async function approve(one: Put) {
  if (await approved.run(one.id, { accepts: {} })) await look()
}
async function approveIssuer(issuer: string) {
  if (await approved.run(`I-${issuer}`, { accepts: {} })) await look()
}
async function giveBack(one: Put) {
  await returned.run(one.id, 'returned in the console')
  await look()
}
</script>

<template>
  <h1>Setup</h1>
  <PartTabs area="setup" label="Parts of the setup" :parts="PARTS" />
  <FailureNote
    v-for="one in [settings, nodes, would, put, approved, returned].filter((call) => call.error.value)"
    :key="one.error.value!.message"
    :error="one.error.value!"
  />
  <template v-if="part === ''">
    <p v-if="put.data.value" role="status">
      {{ put.data.value.id }}
      {{ put.data.value['in-force'] ? 'is in force.' : `waits until another has approved it: ${put.data.value.weighs.join('; ')}.` }}
    </p>
    <section v-if="waits" class="sheet plain" aria-labelledby="waits">
      <h2 id="waits">{{ waits.id }} waits for approval</h2>
      <p>
        Put by {{ waits.by }}, {{ moment(waits.at) }}<template v-if="waits.note">: {{ waits.note }}</template>
      </p>
      <ul>
        <li v-for="why in waits.why" :key="why">{{ why }}</li>
      </ul>
      <pre>{{ waits.text }}</pre>
      <ElButton type="primary" :loading="approved.busy.value" @click="approve(waits)">Approve it</ElButton>
      <ElButton :loading="returned.busy.value" @click="giveBack(waits)">Return it</ElButton>
    </section>
    <section class="sheet plain" aria-labelledby="settings">
      <h2 id="settings">Settings</h2>
      <ElSkeleton v-if="!settings.data.value" :rows="4" animated />
      <template v-else>
        <p class="soft">
          {{
            settings.data.value.approvals
              ? `A change of policy needs ${counted(settings.data.value.approvals, 'approval')} by others than its editors.`
              : 'One person may put changes of policy live alone.'
          }}
        </p>
        <label class="plain"
          >As text, TOML<ElInput v-model="text" type="textarea" name="settings" :rows="14" spellcheck="false" class="mono"
        /></label>
        <p>
          <ElButton type="primary" :disabled="!isChanged" :loading="would.busy.value" @click="ask">Put them</ElButton>
          <ElButton :disabled="!isChanged" @click="text = settings.data.value!.text">As they are in force</ElButton>
        </p>
        <AsCommand line="ostrog settings put FILE" />
      </template>
    </section>
    <section class="sheet plain" aria-labelledby="history">
      <h2 id="history">What was put</h2>
      <p v-if="!settings.data.value?.history.length" class="soft">Nobody has put settings yet.</p>
      <ElTable v-else :data="settings.data.value.history" row-key="id">
        <ElTableColumn type="expand">
          <template #default="{ row }: { row: Put }">
            <pre>{{ row.text }}</pre>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Which" prop="id" width="90" />
        <ElTableColumn label="State" prop="state" min-width="110" />
        <ElTableColumn label="By" prop="by" sortable min-width="120" />
        <ElTableColumn label="When" prop="at" sortable min-width="160">
          <template #default="{ row }: { row: Put }">{{ moment(row.at) }}</template>
        </ElTableColumn>
        <ElTableColumn label="Why" min-width="220">
          <template #default="{ row }: { row: Put }">{{ [row.note, ...(row.why ?? [])].filter(Boolean).join('; ') }}</template>
        </ElTableColumn>
      </ElTable>
    </section>
    <AskFirst v-model="putting" title="Put these settings?" answer="Put them" :busy="put.busy.value" @confirmed="send">
      <template v-if="would.data.value">
        <p v-if="would.data.value.weighs.length">
          {{ settings.data.value?.approvals ? 'Another has to approve' : 'They change' }}: {{ would.data.value.weighs.join('; ') }}.
        </p>
        <p v-else>They are in force at once.</p>
        <ul v-if="would.data.value.moved.length">
          <li v-for="one in would.data.value.moved" :key="one.who + one.what">
            <strong>{{ one.who }}</strong>
            <span :class="one.gained ? 'allowed' : 'denied'">{{ one.gained ? ' gains ' : ' loses ' }}</span><code>{{ one.what }}</code>
          </li>
        </ul>
      </template>
      <label class="plain">Why<ElInput v-model="note" name="note" maxlength="400" autocomplete="off" placeholder="kept with them" /></label>
    </AskFirst>
  </template>
  <template v-else-if="part === 'operators'">
    <section class="sheet plain" aria-labelledby="people">
      <h2 id="people">Operators on record</h2>
      <p class="soft">
        Whoever is on record may approve what others wrote. They stand in the settings, in <code>[operators.people]</code>.
      </p>
      <p v-if="!settings.data.value?.people.length">Nobody is on record yet.</p>
      <ElTable v-else :data="settings.data.value.people" row-key="key">
        <ElTableColumn label="Name" prop="name" sortable min-width="140" />
        <ElTableColumn label="Key" prop="key" min-width="110" />
        <ElTableColumn label="Signs in as" min-width="180">
          <template #default="{ row }">{{ row['sign-ins'].join(', ') || 'with keys alone' }}</template>
        </ElTableColumn>
        <ElTableColumn label="Roles" min-width="180">
          <template #default="{ row }">{{ row.roles.join(', ') }}</template>
        </ElTableColumn>
      </ElTable>
    </section>
    <section class="sheet plain" aria-labelledby="with">
      <h2 id="with">Signing in</h2>
      <p class="soft">
        With issuers that are set up for operators, in
        <RouterLink :to="{ name: 'connect', params: { part: 'issuers' } }">Connect</RouterLink>. What somebody may do then stands in the
        settings: by their sign-in, or by a group that the issuer says they are in.
      </p>
      <p v-if="!withIssuers.length">With keys alone: no issuer is set up for operators.</p>
      <ElTable v-else :data="withIssuers" row-key="key">
        <ElTableColumn label="Issuer" prop="key" min-width="110" />
        <ElTableColumn label="Address" prop="url" min-width="220" />
        <ElTableColumn label="As client" prop="client" min-width="140" />
        <ElTableColumn label="" min-width="200" align="right">
          <template #default="{ row }: { row: IssuerShown }">
            <template v-if="row.waits"
              ><span class="denied">waits until another has approved it</span>
              <ElButton size="small" :loading="approved.busy.value" @click="approveIssuer(row.key)"
                >Approve {{ row.key }}</ElButton
              ></template
            ><span v-else class="soft">in use</span>
          </template>
        </ElTableColumn>
      </ElTable>
    </section>
    <section class="sheet plain" aria-labelledby="keys">
      <h2 id="keys">Operators’ keys</h2>
      <ElTable :data="operators" row-key="id">
        <ElTableColumn label="Name" prop="name" sortable min-width="150" />
        <ElTableColumn label="Whose" prop="person" sortable min-width="120">
          <template #default="{ row }">{{ row.person ?? 'a program’s: it approves nothing' }}</template>
        </ElTableColumn>
        <ElTableColumn label="May" min-width="220">
          <template #default="{ row }">{{ tellRights(row.rights) }}</template>
        </ElTableColumn>
        <ElTableColumn label="Last used" prop="last-used-at" sortable min-width="150">
          <template #default="{ row }">{{ row['last-used-at'] ? moment(row['last-used-at']) : 'not yet' }}</template>
        </ElTableColumn>
      </ElTable>
    </section>
  </template>
  <section v-else class="sheet plain" aria-labelledby="nodes">
    <h2 id="nodes">Nodes</h2>
    <p class="soft">Each tells how far it answers. One that has not followed may answer as before for as long as is said.</p>
    <ElTable :data="nodes.data.value ?? []" row-key="id">
      <ElTableColumn label="Node" prop="id" min-width="150" />
      <ElTableColumn label="At" prop="address" min-width="140" />
      <ElTableColumn label="Position" prop="position" sortable width="110" align="right" />
      <ElTableColumn label="Behind" width="100" align="right">
        <template #default="{ row }: { row: NodeShown }"
          ><span :class="row.position < most ? 'denied' : 'soft'">{{ most - row.position }}</span></template
        >
      </ElTableColumn>
      <ElTableColumn label="Last said so" min-width="160">
        <template #default="{ row }: { row: NodeShown }">{{ moment(row.seen) }}</template>
      </ElTableColumn>
      <ElTableColumn label="Runs since" min-width="160">
        <template #default="{ row }: { row: NodeShown }">{{ moment(row.started) }}</template>
      </ElTableColumn>
    </ElTable>
  </section>
</template>

<style scoped>
.sheet {
  margin: 0 0 16px;
}
p {
  margin: 6px 0;
}
pre {
  overflow-x: auto;
  margin: 4px 0;
}
.mono :deep(textarea) {
  font-family: var(--mono);
}
</style>
