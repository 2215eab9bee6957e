<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api } from '../api/calls'
import FailureNote from './FailureNote.vue'
import NameField from './NameField.vue'
import { useAsync } from '../composables/useAsync'
import { counted } from '../support/words'

/** Groups and who is in them. */
const route = useRoute()
const router = useRouter()
const name = computed(() => (typeof route.query.group === 'string' ? route.query.group : ''))
const after = ref<string>()
const groups = useAsync((from?: string) => api.entities('group:', 100, { after: from }))
const group = useAsync(api.members)
const from = ref<string>()
const written = useAsync(api.setFacts)
const member = ref('')
const shown = computed(() => group.data.value?.items ?? [])
const tenant = computed(() => groups.data.value?.items.find((one) => one.entity === name.value)?.tenant)

watch(after, (from) => void groups.run(from), { immediate: true })
watch(name, () => (from.value = undefined))
watch([name, from], ([known, after]) => (known ? void group.run(known, after) : group.clear()), { immediate: true })

async function write(fact: string, remove: boolean) {
  if (!(await written.run(remove ? [] : [fact], remove ? [fact] : []))) return
  member.value = ''
  await group.run(name.value, from.value)
}
</script>

<template>
  <div class="sides">
    <nav class="sheet" aria-label="Groups">
      <FailureNote v-if="groups.error.value" :error="groups.error.value" />
      <p v-else-if="!groups.data.value" class="soft">Reading the groups …</p>
      <p v-else-if="!groups.data.value.items.length">There is no group. Load one: <code>{"entity":"group:night"}</code></p>
      <ul>
        <li v-for="one in groups.data.value?.items ?? []" :key="one.entity">
          <button type="button" class="pick" :aria-pressed="one.entity === name" @click="router.push({ query: { ...route.query, group: one.entity } })">{{ one.entity }}</button>
          <span class="soft">{{ (one['member-count'] ?? 0).toLocaleString('en') }}</span>
        </li>
      </ul>
      <button v-if="after" type="button" class="plain-button" @click="after = undefined">First groups</button>
      <button v-if="groups.data.value?.next" type="button" class="plain-button" @click="after = groups.data.value.next ?? undefined">More</button>
    </nav>
    <section v-if="name" class="sheet plain" aria-labelledby="members">
      <h2 id="members">{{ name }}</h2>
      <FailureNote v-if="group.error.value ?? written.error.value" :error="(group.error.value ?? written.error.value)!" />
      <p v-if="tenant" class="soft">It stands for its members within {{ tenant }} only.</p>
      <form class="line" @submit.prevent="write(`${member.trim()} in ${name}`, false)">
        <NameField v-model="member" label="New member" placeholder="user:ines, group:night" :width="18" />
        <ElButton native-type="submit" :disabled="!member.includes(':')" :loading="written.busy.value">Take in</ElButton>
      </form>
      <p v-if="group.data.value && !shown.length">Nobody is in it.</p>
      <table v-else class="rows">
        <tbody>
          <tr v-for="one in shown" :key="one">
            <td class="mono">{{ one }}</td>
            <td class="do"><ElButton size="small" :aria-label="`Take out ${one}`" @click="write(`${one} in ${name}`, true)">Take out</ElButton></td>
          </tr>
        </tbody>
      </table>
      <p v-if="group.data.value" class="soft">{{ counted(group.data.value.total, 'member') }} in all.</p>
      <button v-if="from" type="button" class="plain-button" @click="from = undefined">First members</button>
      <button v-if="group.data.value?.next" type="button" class="plain-button" @click="from = group.data.value.next ?? undefined">More members</button>
    </section>
    <p v-else class="soft">Choose a group.</p>
  </div>
</template>

<style scoped>
.sides {
  display: grid;
  grid-template-columns: minmax(200px, 300px) minmax(0, 1fr);
  gap: 16px;
  align-items: start;
}
ul {
  margin: 0;
  padding: 0;
  list-style: none;
}
.do {
  text-align: right;
}
@media (max-width: 760px) {
  .sides {
    grid-template-columns: 1fr;
  }
}
</style>
