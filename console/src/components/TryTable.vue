<script setup lang="ts">
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'
import { api, type Question } from '../api/calls'
import FailureNote from './FailureNote.vue'
import NameField from './NameField.vue'
import NamesField from './NamesField.vue'
import { useAsync } from '../composables/useAsync'
import { counted } from '../support/words'

/** Several subjects and several permissions on one resource, each cell with its reason; any of them can be kept as a case. */
const props = defineProps<{ permissions: string[]; types: string[] }>()
const MOST = 100
const subjects = ref<string[]>([])
const chosen = ref<string[]>([])
const resource = ref('')
interface Row {
  subject: string
  answers: { permission: string; allowed: boolean; reason: string }[]
}
const fitting = computed(() =>
  props.permissions.filter((one) => !resource.value.includes(':') || one.startsWith(`${resource.value.split(':')[0]}:`)),
)
const asked = useAsync(async (): Promise<{ rows: Row[]; permissions: string[] }> => {
  const [who, what, on] = [[...subjects.value], [...chosen.value], resource.value.trim()]
  const ask = (subject: string, permission: string): Question => ({
    subject,
    permission,
    resource: on,
    context: {},
    ofSubject: {},
    ofResource: {},
    now: '',
    suppose: [],
  })
  const rows: Row[] = []
  for (const subject of who) {
    const answers = await Promise.all(
      what.map((permission) =>
        api
          .ask(ask(subject, permission))
          .then(({ explanation }) => ({ permission, allowed: explanation.allowed, reason: explanation.reason })),
      ),
    )
    rows.push({ subject, answers })
  }
  return { rows, permissions: what }
})
const kept = useAsync(async (row: Row, answer: Row['answers'][number]) =>
  api.keepCase({
    name: `${row.subject} ${answer.allowed ? 'may' : 'may not'} ${answer.permission} on ${resource.value}`,
    subject: row.subject,
    permission: answer.permission,
    resource: resource.value.trim(),
    may: answer.allowed,
    context: {},
  }),
)
const cells = computed(() => subjects.value.length * chosen.value.length)
</script>

<template>
  <form class="sheet plain" aria-labelledby="several" @submit.prevent="asked.run()">
    <h2 id="several">Several at once</h2>
    <div class="line">
      <NamesField
        v-model="subjects"
        label="Subjects"
        name="subjects"
        placeholder="user:ines, user:rui"
        :width="22"
        :types="['user', 'service']"
      />
      <NameField v-model="resource" label="On" placeholder="manifest:m-204" :width="14" :types="types" />
      <label class="wide"
        >Permissions
        <ElSelect v-model="chosen" name="permissions" multiple filterable placeholder="manifest:release"
          ><ElOption v-for="one in fitting" :key="one" :value="one" :label="one"
        /></ElSelect>
      </label>
      <ElButton type="primary" native-type="submit" :disabled="!cells || cells > MOST" :loading="asked.busy.value">{{
        cells > MOST ? `At most ${MOST} at a time` : cells ? `Ask ${counted(cells, 'question')}` : 'Ask'
      }}</ElButton>
    </div>
    <FailureNote v-if="asked.error.value ?? kept.error.value" :error="(asked.error.value ?? kept.error.value)!" />
    <p v-if="kept.data.value" role="status">Kept as case {{ kept.data.value.number }}.</p>
    <ElTable v-if="asked.data.value" :data="asked.data.value.rows" row-key="subject">
      <ElTableColumn label="Subject" prop="subject" sortable fixed min-width="140"
        ><template #default="{ row }: { row: Row }"
          ><code>{{ row.subject }}</code></template
        ></ElTableColumn
      >
      <ElTableColumn v-for="(permission, at) in asked.data.value.permissions" :key="permission" :label="permission" min-width="170">
        <template #default="{ row }: { row: Row }">
          <RouterLink
            :to="{ name: 'try', query: { subject: row.subject, permission, resource } }"
            :class="row.answers[at]!.allowed ? 'allowed' : 'denied'"
            >{{ row.answers[at]!.allowed ? 'allowed' : 'denied' }}</RouterLink
          >
          <br /><code class="soft">{{ row.answers[at]!.reason }}</code>
          <ElButton link :aria-label="`Keep as a case: ${row.subject} ${permission}`" @click="kept.run(row, row.answers[at]!)"
            >keep</ElButton
          >
        </template>
      </ElTableColumn>
    </ElTable>
  </form>
</template>

<style scoped>
.sheet {
  margin-top: 16px;
}
.wide {
  flex: 1 1 240px;
}
</style>
