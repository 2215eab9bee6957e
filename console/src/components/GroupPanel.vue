<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api } from '../api/calls'
import FailureNote from './FailureNote.vue'
import NameField from './NameField.vue'
import TakeAway from './TakeAway.vue'
import { useAsync } from '../composables/useAsync'
import { happened } from '../support/happened'
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
const containing = ref('')
const find = () => void group.run(name.value, undefined, containing.value.trim())
const shown = computed(() => group.data.value?.items ?? [])
const tenant = computed(() => groups.data.value?.items.find((one) => one.entity === name.value)?.tenant)

watch(after, (from) => void groups.run(from), { immediate: true })
watch(name, () => {
  from.value = undefined
  containing.value = ''
})
watch([name, from], ([known, after]) => (known ? void group.run(known, after, containing.value.trim()) : group.clear()), {
  immediate: true,
})

async function write(fact: string, remove: boolean) {
  const done = await written.run(remove ? [] : [fact], remove ? [fact] : [])
  if (!done) return
  member.value = ''
  const look = () => group.run(name.value, from.value, containing.value.trim())
  const back = () => api.setFacts(remove ? [fact] : [], remove ? [] : [fact])
  if (done.changed.length) happened(`${fact.replace(' in ', remove ? ' taken out of ' : ' taken into ')}`, { back, then: look })
  await look()
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
          <ElButton
            text
            class="pick"
            :aria-pressed="one.entity === name"
            @click="router.push({ query: { ...route.query, group: one.entity } })"
            >{{ one.entity }}</ElButton
          >
          <span class="soft">{{ (one['member-count'] ?? 0).toLocaleString('en') }}</span>
        </li>
      </ul>
      <ElButton v-if="after" size="small" @click="after = undefined">First groups</ElButton>
      <ElButton v-if="groups.data.value?.next" size="small" @click="after = groups.data.value.next ?? undefined">More</ElButton>
    </nav>
    <section v-if="name" class="sheet plain" aria-labelledby="members">
      <h2 id="members">{{ name }}</h2>
      <FailureNote v-if="group.error.value ?? written.error.value" :error="(group.error.value ?? written.error.value)!" />
      <p v-if="tenant" class="soft">It stands for its members within {{ tenant }} only.</p>
      <form class="line" @submit.prevent="write(`${member.trim()} in ${name}`, false)">
        <NameField v-model="member" label="New member" placeholder="user:ines, group:night" :width="18" />
        <ElButton native-type="submit" :disabled="!member.includes(':')" :loading="written.busy.value">Take in</ElButton>
      </form>
      <ElInput
        v-if="(group.data.value?.total ?? 0) > 6 || containing"
        v-model="containing"
        class="find"
        clearable
        placeholder="Find a member"
        aria-label="Find a member"
        @change="find"
      />
      <p v-if="group.data.value && !shown.length">{{ containing ? 'No member is called so.' : 'Nobody is in it.' }}</p>
      <ElTable v-else :data="shown.map((member) => ({ member }))" row-key="member">
        <ElTableColumn label="Member" prop="member" sortable>
          <template #default="{ row }: { row: { member: string } }"
            ><RouterLink :to="{ name: 'entity', params: { name: row.member } }" class="mono">{{ row.member }}</RouterLink></template
          >
        </ElTableColumn>
        <ElTableColumn label="" width="110" align="right">
          <template #default="{ row }: { row: { member: string } }">
            <TakeAway
              text="Take out"
              :name="`Take out ${row.member}`"
              :asks="`${row.member} will not hold what ${name} holds any more.`"
              answer="Take out"
              @confirmed="write(`${row.member} in ${name}`, true)"
            />
          </template>
        </ElTableColumn>
      </ElTable>
      <p v-if="group.data.value" class="soft">{{ counted(group.data.value.total, 'member') }} in all.</p>
      <ElButton v-if="from" size="small" @click="from = undefined">First members</ElButton>
      <ElButton v-if="group.data.value?.next" size="small" @click="from = group.data.value.next ?? undefined">More members</ElButton>
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
.find {
  width: 20em;
  margin-top: 8px;
}
@media (max-width: 760px) {
  .sides {
    grid-template-columns: 1fr;
  }
}
</style>
