<script setup lang="ts">
import { ElMessage } from 'element-plus'
import 'element-plus/theme-chalk/el-message.css'
import { computed, onUnmounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useMay } from './useMay'

interface Thing {
  name: string
  within: string | null
  facts: Record<string, unknown>
  state: string
}

const { kind } = defineProps<{ kind: 'booking' | 'invoice' }>()
const route = useRoute()
const router = useRouter()
const items = ref<Thing[]>([])
const more = ref(false)

const title = computed(() => (kind === 'booking' ? 'Bookings' : 'Invoices'))
const told = computed(() => (kind === 'booking' ? { key: 'line', name: 'Line' } : { key: 'amount', name: 'Amount' }))
const buttons = computed(() =>
  kind === 'booking'
    ? [{ key: 'cancel-button', name: 'Give the space back', path: 'cancel' }]
    : [
        { key: 'dispute-button', name: 'Dispute', path: 'dispute' },
        { key: 'approve-button', name: 'Approve the payment', path: 'approve' },
      ],
)
const chosen = computed(() => {
  const id = route.params.id
  return typeof id === 'string' && id !== '' ? `${kind}:${id}` : undefined
})
const thing = computed(() => items.value.find((one) => one.name === chosen.value))
const may = useMay(chosen)

let again: ReturnType<typeof setTimeout> | undefined
let asked = 0
async function load() {
  clearTimeout(again)
  const own = ++asked
  const response = await fetch(`/api/${kind}s`, { cache: 'no-store' }).catch(() => undefined)
  const answer: { items: Thing[]; more: boolean } = response?.ok ? await response.json() : { items: [], more: false }
  // An answer to what was asked before does not count.
  if (own !== asked) return
  items.value = answer.items
  more.value = answer.more
  // Without an answer nothing is shown, and it is asked again.
  if (response === undefined || response.status >= 500) again = setTimeout(load, 2_000)
}
onUnmounted(() => clearTimeout(again))
// Whatever changes what one may do changes what one sees, too.
watch([() => kind, may.standing, may.subject, may.position], load, { immediate: true })

function choose(row: Thing | null) {
  if (row !== null) void router.push(`/${kind}s/${row.name.split(':')[1]}`)
}

async function press(path: string) {
  const response = await fetch(`/api/${kind}s/${encodeURIComponent(String(route.params.id))}/${path}`, { method: 'POST' })
  if (response.ok) {
    ElMessage.success('Done.')
  } else {
    const problem: { detail?: string } = await response.json().catch(() => ({}))
    ElMessage.error(problem.detail ?? 'It was not done.')
  }
  await load()
}
</script>

<template>
  <h1>{{ title }}</h1>
  <div class="beside">
    <el-table
      :data="items"
      row-key="name"
      :current-row-key="chosen"
      highlight-current-row
      :aria-label="title"
      empty-text="None that you may see."
      @current-change="choose"
    >
      <el-table-column label="Number" min-width="120">
        <template #default="{ row }">
          <router-link :to="`/${kind}s/${row.name.split(':')[1]}`" class="number">{{ row.name.split(':')[1] }}</router-link>
        </template>
      </el-table-column>
      <el-table-column :label="told.name" min-width="90">
        <template #default="{ row }">{{ row.facts[told.key] }}</template>
      </el-table-column>
      <el-table-column prop="within" label="Within" min-width="130" />
      <el-table-column prop="state" label="State" min-width="90" />
    </el-table>
    <section v-if="thing" class="one" :aria-label="thing.name">
      <h2>{{ thing.name }}</h2>
      <p>{{ told.name }} {{ thing.facts[told.key] }}, within {{ thing.within }}, {{ thing.state }}</p>
      <p v-if="may.standing.value === 'away'" role="status">What you may do with it cannot be asked now. It goes on by itself.</p>
      <template v-for="button in buttons" :key="button.key">
        <div v-if="may.shows(button.key)" class="button">
          <el-button
            :disabled="!may.enables(button.key) || thing.state !== 'open'"
            :aria-describedby="may.why(button.key) ? `${button.key}-why` : undefined"
            @click="press(button.path)"
          >
            {{ button.name }}
          </el-button>
          <span v-if="may.why(button.key)" :id="`${button.key}-why`" class="why">{{ may.why(button.key) }}</span>
        </div>
      </template>
    </section>
  </div>
  <p v-if="more">There are more; the first 100 are shown.</p>
</template>

<style scoped>
.beside {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 24px;
  align-items: start;
}
.one {
  background: var(--sheet);
  border: 1px solid var(--rule);
  margin-top: 12px;
  padding: 4px 20px 20px;
}
.button {
  display: flex;
  align-items: center;
  flex-wrap: wrap;
  gap: 12px;
  margin-top: 12px;
}
.why {
  color: var(--soft);
}
.number[aria-current='page'] {
  font-weight: 700;
}
/* One below the other, and what was chosen first: there is no room beside the list. */
@media (max-width: 800px) {
  .beside {
    grid-template-columns: minmax(0, 1fr);
  }
  .one {
    order: -1;
  }
}
</style>
