<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { RouterLink, useRoute } from 'vue-router'
import { api } from '../api/calls'
import type { Change, EntityLine } from '../api/types'
import AskFirst from '../components/AskFirst.vue'
import AsCommand from '../components/AsCommand.vue'
import CopyButton from '../components/CopyButton.vue'
import EntityForm from '../components/EntityForm.vue'
import FailureNote from '../components/FailureNote.vue'
import HoldingTable from '../components/HoldingTable.vue'
import { useAsync } from '../composables/useAsync'
import { useCharter } from '../composables/useCharter'
import { useKeyNames } from '../composables/useKeyNames'
import { happened } from '../support/happened'
import { readJson, writeJson } from '../support/json'
import { counted, moment, told } from '../support/words'

const route = useRoute()
const names = useKeyNames()
const { model } = useCharter()
const shown = useAsync(api.entity)
/** Read once it is to be changed. */
const whole = useAsync(api.wholeEntity)
const around = useAsync(api.around)
const held = useAsync(api.holdings)
const ended = useAsync((id: string) => api.endGrant(id, ''))
const history = useAsync((about: string) => api.changes(40, about))
const inside = useAsync((name: string, after: string, before: string[]) =>
  api.entities('', 100, { within: name, after }).then((page) => ({ ...page, names: [...before, ...page.items.map((one) => one.entity)] })),
)
const written = useAsync(api.putEntity)
const deleted = useAsync(api.deleteEntity)
const name = computed(() => String(route.params.name))
const kind = computed(() => name.value.split(':')[0]!)
const isSubject = computed(() => /^(user|service|group):/.test(name.value))
const actions = computed(() => model.value?.types.find((type) => type.key === kind.value)?.actions ?? [])
const text = ref('')
const wrong = ref('')
const deleting = ref(false)
const changing = ref(false)

async function look() {
  deleting.value = false
  void around.run(name.value)
  void history.run(name.value)
  void held.run(isSubject.value ? { by: name.value } : { at: name.value })
  inside.clear()
  whole.clear()
  await Promise.all([shown.run(name.value), changing.value && readWhole()])
}
async function readWhole() {
  const found = await whole.run(name.value)
  if (!found) return
  text.value = writeJson(found.entity, 2)
  // What stands beside the form is what the form was filled with.
  if (shown.data.value && shown.data.value.tag !== found.tag) void shown.run(name.value)
}
function turn(event: Event) {
  changing.value = (event.target as HTMLDetailsElement).open
  if (changing.value && !whole.data.value) void readWhole()
}
watch(
  name,
  (now) => {
    document.title = `${now} · Ostrog`
    void look()
  },
  { immediate: true },
)

const said = computed(() => {
  const line = shown.data.value?.entity
  if (!line) return []
  const plain = ['state', 'within', 'detached', 'tenant', 'tenants'].filter((key) => key in line)
  return [
    ...plain.map((key) => [key, line[key]] as const),
    ...Object.entries(line.attributes ?? {}),
    ...Object.entries(line.relations ?? {}),
  ]
})
const isName = (item: string) => /^[a-z][a-z0-9-]*:[^\d]/.test(item)
const items = (value: unknown) => (Array.isArray(value) ? value : [value]).map(String)

/** What each change did to it: what it said before, and after, as far as the history reaches. */
const steps = computed(() => {
  const changes = history.data.value?.items ?? []
  return changes.map((change, at) => ({ change, did: differences(statedBy(changes, at), stated(change)), before: statedBy(changes, at) }))
})
function stated(change: Change): Record<string, unknown> | undefined {
  const line = change.lines.find((one) => one.entity === name.value) as EntityLine | undefined
  if (!line) return undefined
  const { entity: _, attributes, relations, ...rest } = line
  return { ...rest, ...attributes, ...relations }
}
const statedBy = (changes: Change[], at: number) =>
  changes
    .slice(at + 1)
    .map(stated)
    .find(Boolean)
function differences(before?: Record<string, unknown>, after?: Record<string, unknown>): string[] {
  if (!after) return []
  const show = (value: unknown) => (value === undefined ? 'nothing' : items(value).join(', '))
  const keys = [...new Set([...Object.keys(before ?? {}), ...Object.keys(after)])].filter((key) => key !== 'merge')
  return keys
    .filter((key) => show(before?.[key]) !== show(after[key]))
    .map((key) => (before ? `${key} ${show(before[key])} → ${show(after[key])}` : `${key} ${show(after[key])}`))
}
/** The entity as a change before left it, to be written again. */
function wayBack(at: number): EntityLine | undefined {
  const line = (history.data.value?.items ?? [])
    .slice(at + 1)
    .flatMap((change) => change.lines)
    .find((one) => one.entity === name.value)
  return line as EntityLine | undefined
}

async function write() {
  wrong.value = ''
  let line: EntityLine
  try {
    line = readJson(text.value) as EntityLine
  } catch (cause) {
    wrong.value = `This is no JSON: ${cause instanceof Error ? cause.message : String(cause)}`
    return
  }
  await put(line)
}
async function put(line: EntityLine) {
  const before = whole.data.value?.entity
  if (!(await written.run({ ...line, entity: name.value }, whole.data.value?.tag ?? shown.data.value?.tag))) return
  // A reading of its own: the page's may give way to a later one that has not come yet.
  const [read] = await Promise.all([api.entity(name.value).catch(() => undefined), look()])
  const tag = read?.tag
  if (before) happened(`${name.value} is written`, { back: () => api.putEntity(before, tag), then: look })
}
async function end(id: string) {
  const grant = held.data.value?.items.find((one) => one.grant.id === id)?.grant
  if (!(await ended.run(id))) return
  if (grant) happened(`${grant.role} of ${grant.to} ended`, { back: () => api.giveAgain(grant), then: look })
  await look()
}
async function remove() {
  const done = await deleted.run(name.value, shown.data.value!.tag)
  deleting.value = false
  if (done) shown.clear()
}
const tryIt = (permission?: string) =>
  isSubject.value
    ? { name: 'try', query: { subject: name.value } }
    : { name: 'try', query: { permission, resource: name.value, blank: 'holders' } }
</script>

<template>
  <ElBreadcrumb v-if="around.data.value?.outer.length" separator="›">
    <ElBreadcrumbItem
      v-for="outer in [...around.data.value.outer].reverse()"
      :key="outer.name"
      :to="{ name: 'entity', params: { name: outer.name } }"
      >{{ outer.name }}</ElBreadcrumbItem
    >
  </ElBreadcrumb>
  <h1 class="mono">{{ name }} <CopyButton :text="name" /></h1>
  <FailureNote v-if="shown.error.value ?? deleted.error.value" :error="(shown.error.value ?? deleted.error.value)!" />
  <p v-else-if="deleted.data.value" role="status">It is deleted, and every fact that named it has ended.</p>
  <ElSkeleton v-else-if="!shown.data.value" :rows="5" animated />
  <nav v-if="shown.data.value" aria-label="Ask about it" class="asks">
    <template v-if="!isSubject">
      Who may
      <template v-for="(action, at) in actions" :key="action.key"
        ><template v-if="at">, </template><RouterLink :to="tryIt(`${kind}:${action.key}`)">{{ action.key }}</RouterLink></template
      >
      it?
    </template>
    <RouterLink v-else-if="kind !== 'group'" :to="tryIt()">Ask what they may</RouterLink>
  </nav>
  <div v-if="shown.data.value" class="sheets">
    <section class="sheet" aria-labelledby="said">
      <h2 id="said">What is said of it</h2>
      <p v-if="!said.length && kind !== 'group'" class="soft">Nothing but that it is registered.</p>
      <dl>
        <template v-for="[key, value] in said" :key="key">
          <dt>{{ key }}</dt>
          <dd>
            <template v-for="(item, at) in items(value).slice(0, 100)" :key="at">
              <template v-if="at">, </template>
              <RouterLink v-if="isName(item)" :to="{ name: 'entity', params: { name: item } }" class="mono">{{ item }}</RouterLink>
              <code v-else>{{ item }}</code>
            </template>
            <span v-if="items(value).length > 100" class="soft"> and {{ (items(value).length - 100).toLocaleString('en') }} more</span>
          </dd>
        </template>
        <template v-if="kind === 'group'">
          <dt>members</dt>
          <dd>
            <RouterLink :to="{ name: 'give', params: { part: 'groups' }, query: { group: name } }">{{
              (shown.data.value.entity['member-count'] ?? 0).toLocaleString('en')
            }}</RouterLink>
          </dd>
        </template>
        <template v-if="shown.data.value.groups.length">
          <dt>in</dt>
          <dd>
            <template v-for="(group, at) in shown.data.value.groups" :key="group"
              ><template v-if="at">, </template
              ><RouterLink :to="{ name: 'give', params: { part: 'groups' }, query: { group } }" class="mono">{{
                group
              }}</RouterLink></template
            >
          </dd>
        </template>
      </dl>
      <details :open="changing" @toggle="turn">
        <summary>Change it</summary>
        <FailureNote v-if="whole.error.value" :error="whole.error.value" />
        <EntityForm
          v-if="model && whole.data.value"
          :model="model"
          :line="whole.data.value.entity"
          :busy="written.busy.value"
          @write="put"
        />
        <form v-if="whole.data.value" class="plain" aria-label="Change" @submit.prevent="write">
          <label>Its register line<ElInput v-model="text" type="textarea" name="line" :rows="8" spellcheck="false" /></label>
          <ElAlert v-if="wrong" type="error" :closable="false" :title="wrong" role="alert" />
          <FailureNote v-if="written.error.value" :error="written.error.value" />
          <ElButton native-type="submit" type="primary" :loading="written.busy.value">Write it</ElButton>
          <ElButton @click="deleting = true">Delete</ElButton>
          <p class="soft">Written only if nobody changed it since you read it.</p>
          <AsCommand :line="`ostrog register set '${name}.attribute = value'`" />
        </form>
      </details>
      <AskFirst
        v-model="deleting"
        danger
        :title="`Delete ${name}?`"
        answer="Delete it, and what names it"
        :busy="deleted.busy.value"
        @confirmed="remove"
      >
        <p>
          Every fact that names it ends in the same moment: its grants, memberships and relations<template v-if="held.data.value?.total"
            >, {{ counted(held.data.value.total, 'grant') }} among them</template
          >. An id that is used again is somebody new.
        </p>
      </AskFirst>
    </section>
    <section v-if="around.data.value" class="sheet" aria-labelledby="names">
      <h2 id="names">Around it</h2>
      <p v-for="one in around.data.value.contents" :key="one.key">{{ counted(one.count, one.key) }} in it</p>
      <ul>
        <li v-for="inner in inside.data.value?.names ?? around.data.value.inside.map((one) => one.name)" :key="inner">
          <RouterLink :to="{ name: 'entity', params: { name: inner } }" class="mono">{{ inner }}</RouterLink>
        </li>
      </ul>
      <FailureNote v-if="inside.error.value" :error="inside.error.value" />
      <ElButton
        v-if="
          inside.data.value
            ? inside.data.value.next
            : around.data.value.contents.reduce((sum, one) => sum + one.count, 0) > around.data.value.inside.length
        "
        size="small"
        :loading="inside.busy.value"
        @click="inside.run(name, inside.data.value?.next ?? '', inside.data.value?.names ?? [])"
        >{{ inside.data.value ? 'More of them' : 'All of them, by name' }}</ElButton
      >
      <h3 v-if="around.data.value.namers.length">What names it</h3>
      <ul>
        <li v-for="namer in around.data.value.namers" :key="namer.name + namer.relation">
          <RouterLink :to="{ name: 'entity', params: { name: namer.name } }" class="mono">{{ namer.name }}</RouterLink> as
          {{ namer.relation }}
        </li>
      </ul>
      <p><RouterLink :to="{ name: 'refine', query: { on: name } }">See it in the picture</RouterLink></p>
    </section>
  </div>
  <section v-if="held.data.value" class="sheet below" aria-labelledby="holds">
    <h2 id="holds">{{ isSubject ? 'Holds' : 'Held here' }}</h2>
    <FailureNote v-if="ended.error.value" :error="ended.error.value" />
    <p v-if="!held.data.value.items.length" class="soft">{{ isSubject ? 'No grant reaches it.' : 'No grant arrives here.' }}</p>
    <HoldingTable v-else :items="held.data.value.items" :at="isSubject ? undefined : name" @end="end" />
    <p v-if="held.data.value.next" class="soft">
      The first 100 of {{ held.data.value.total }}. <RouterLink :to="{ name: 'give', query: { at: name } }">All of them</RouterLink>
    </p>
  </section>
  <section v-if="history.data.value" class="sheet below" aria-labelledby="history">
    <h2 id="history">Its history</h2>
    <p v-if="!history.data.value.items.length" class="soft">No change names it.</p>
    <ElTimeline v-else>
      <ElTimelineItem
        v-for="({ change, did }, at) in steps"
        :key="change.position"
        :timestamp="`${change.position}, ${moment(change.at)}, by ${names.called(change.actor)}`"
        placement="bottom"
        hollow
      >
        {{ told(change, name)
        }}<template v-if="did.length"
          >: <strong>{{ did.join('; ') }}</strong></template
        >
        <ElButton
          v-if="at > 0 || wayBack(at)"
          v-show="wayBack(at) && did.length"
          size="small"
          class="back"
          :aria-label="`As it was before ${change.position}`"
          @click="put(wayBack(at)!)"
          >As it was before</ElButton
        >
      </ElTimelineItem>
    </ElTimeline>
  </section>
</template>

<style scoped>
.sheets {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(340px, 100%), 1fr));
  gap: 16px;
  margin-top: 16px;
  align-items: start;
}
.asks {
  margin-top: 6px;
}
.below {
  margin-top: 16px;
}
dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 4px 16px;
  margin: 8px 0;
}
dt {
  color: var(--soft);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
ul {
  margin: 4px 0;
  padding-left: 18px;
}
p {
  margin: 4px 0;
}
h3 {
  font-size: 14px;
  margin-top: 10px;
}
form {
  display: grid;
  gap: 8px;
  justify-items: start;
  margin-top: 12px;
}
form label {
  width: 100%;
}
form :deep(.el-button) {
  margin: 0;
}
.back {
  margin-left: 10px;
}
.below :deep(.el-timeline) {
  padding: 12px 0 0;
}
summary {
  cursor: pointer;
  min-height: 24px;
}
</style>
