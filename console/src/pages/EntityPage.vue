<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { RouterLink, useRoute } from 'vue-router'
import { api } from '../api/calls'
import type { EntityLine } from '../api/types'
import FailureNote from '../components/FailureNote.vue'
import HoldingTable from '../components/HoldingTable.vue'
import { useAsync } from '../composables/useAsync'
import { counted, moment, told } from '../support/words'

const route = useRoute()
const shown = useAsync(api.entity)
const around = useAsync(api.around)
const held = useAsync(api.holdings)
const history = useAsync((about: string) => api.changes(20, about))
const written = useAsync(api.putEntity)
const deleted = useAsync(api.deleteEntity)
const name = computed(() => String(route.params.name))
const isSubject = computed(() => /^(user|service|group):/.test(name.value))
const text = ref('')
const wrong = ref('')
const deleting = ref(false)

async function look() {
  deleting.value = false
  void around.run(name.value)
  void history.run(name.value)
  void held.run(isSubject.value ? { by: name.value } : { at: name.value })
  const found = await shown.run(name.value)
  if (found) text.value = JSON.stringify(found.entity, null, 2)
}
watch(name, look, { immediate: true })

const said = computed(() => {
  const line = shown.data.value?.entity
  if (!line) return []
  const plain = ['state', 'within', 'detached', 'tenant', 'tenants', 'members'].filter((key) => key in line)
  return [
    ...plain.map((key) => [key, line[key]] as const),
    ...Object.entries(line.attributes ?? {}),
    ...Object.entries(line.relations ?? {}),
  ]
})
const isName = (item: string) => /^[a-z][a-z0-9-]*:[^\d]/.test(item)
const items = (value: unknown) => (Array.isArray(value) ? value : [value]).map(String)

async function write() {
  wrong.value = ''
  let line: EntityLine
  try {
    line = JSON.parse(text.value) as EntityLine
  } catch (cause) {
    wrong.value = `This is no JSON: ${cause instanceof Error ? cause.message : String(cause)}`
    return
  }
  if (await written.run({ ...line, entity: name.value }, shown.data.value?.tag)) await look()
}

async function remove() {
  if (!deleting.value) {
    deleting.value = true
    return
  }
  if (await deleted.run(name.value, shown.data.value!.tag)) shown.clear()
}
</script>

<template>
  <h1 class="mono">{{ name }}</h1>
  <FailureNote v-if="shown.error.value ?? deleted.error.value" :error="(shown.error.value ?? deleted.error.value)!" />
  <p v-else-if="deleted.data.value" role="status">It is deleted, and every fact that named it has ended.</p>
  <p v-else-if="!shown.data.value" class="soft">Reading the register …</p>
  <div v-if="shown.data.value" class="sheets">
    <section class="sheet" aria-labelledby="said">
      <h2 id="said">What is said of it</h2>
      <p v-if="!said.length" class="soft">Nothing but that it is registered.</p>
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
        <template v-if="shown.data.value.groups.length">
          <dt>in</dt>
          <dd>
            <template v-for="(group, at) in shown.data.value.groups" :key="group"><template v-if="at">, </template><RouterLink :to="{ name: 'give', params: { part: 'groups' }, query: { group } }" class="mono">{{ group }}</RouterLink></template>
          </dd>
        </template>
      </dl>
      <details>
        <summary>Change it</summary>
        <form class="plain" aria-label="Change" @submit.prevent="write">
          <label>Its register line<textarea v-model="text" name="line" rows="10" spellcheck="false"></textarea></label>
          <p v-if="wrong" class="denied" role="alert">{{ wrong }}</p>
          <FailureNote v-if="written.error.value" :error="written.error.value" />
          <ElButton native-type="submit" type="primary" :loading="written.busy.value">Write it</ElButton>
          <ElButton @click="remove" @blur="deleting = false">{{ deleting ? 'Delete it now, and what names it' : 'Delete' }}</ElButton>
          <p class="soft">Written only if nobody changed it since you read it.</p>
        </form>
      </details>
    </section>
    <section v-if="around.data.value" class="sheet" aria-labelledby="names">
      <h2 id="names">Around it</h2>
      <p v-if="around.data.value.outer.length">
        within <template v-for="(outer, at) in around.data.value.outer" :key="outer.name"><template v-if="at">, </template><RouterLink :to="{ name: 'entity', params: { name: outer.name } }" class="mono">{{ outer.name }}</RouterLink></template>
      </p>
      <p v-for="kind in around.data.value.contents" :key="kind.key">{{ counted(kind.count, kind.key) }} in it</p>
      <ul>
        <li v-for="inner in around.data.value.inside.slice(0, 20)" :key="inner.name"><RouterLink :to="{ name: 'entity', params: { name: inner.name } }" class="mono">{{ inner.name }}</RouterLink></li>
      </ul>
      <h3 v-if="around.data.value.namers.length">What names it</h3>
      <ul>
        <li v-for="namer in around.data.value.namers" :key="namer.name + namer.relation"><RouterLink :to="{ name: 'entity', params: { name: namer.name } }" class="mono">{{ namer.name }}</RouterLink> as {{ namer.relation }}</li>
      </ul>
      <p><RouterLink :to="{ name: 'refine', query: { on: name } }">See it in the picture</RouterLink></p>
    </section>
  </div>
  <section v-if="held.data.value" class="sheet below" aria-labelledby="holds">
    <h2 id="holds">{{ isSubject ? 'Holds' : 'Held here' }}</h2>
    <p v-if="!held.data.value.items.length" class="soft">{{ isSubject ? 'No grant reaches it.' : 'No grant arrives here.' }}</p>
    <HoldingTable v-else :items="held.data.value.items" :at="isSubject ? undefined : name" @end="(id: string) => api.endGrant(id, '').then(look)" />
    <p v-if="held.data.value.next" class="soft">The first 100 of {{ held.data.value.total }}. <RouterLink :to="{ name: 'give', query: { at: name } }">All of them</RouterLink></p>
  </section>
  <section v-if="history.data.value" class="sheet below" aria-labelledby="history">
    <h2 id="history">Its history</h2>
    <p v-if="!history.data.value.items.length" class="soft">No change names it.</p>
    <table v-else class="rows">
      <tbody>
        <tr v-for="change in history.data.value.items" :key="change.position"><td>{{ change.position }}</td><td>{{ moment(change.at) }}</td><td>{{ change.actor }}</td><td>{{ told(change, name) }}</td></tr>
      </tbody>
    </table>
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
  margin-top: 8px;
}
form label {
  width: 100%;
}
form .el-button {
  margin: 0;
}
</style>
