<script setup lang="ts">
import { computed, watch } from 'vue'
import { RouterLink, useRoute } from 'vue-router'
import { api } from '../api/calls'
import FailureNote from '../components/FailureNote.vue'
import { useAsync } from '../composables/useAsync'

const route = useRoute()
const shown = useAsync(api.entity)
const name = computed(() => String(route.params.name))
watch(name, (name) => void shown.run(name), { immediate: true })

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

function items(value: unknown): string[] {
  return Array.isArray(value) ? value.map(String) : [String(value)]
}
</script>

<template>
  <h1 class="mono">{{ name }}</h1>
  <FailureNote v-if="shown.error.value" :error="shown.error.value" />
  <p v-else-if="!shown.data.value" class="soft">Reading the register …</p>
  <div v-else class="sheets">
    <section class="sheet" aria-labelledby="said">
      <h2 id="said">What is said of it</h2>
      <p v-if="!said.length" class="soft">Nothing but that it is registered.</p>
      <dl>
        <template v-for="[key, value] in said" :key="key">
          <dt>{{ key }}</dt>
          <dd>
            <template v-for="(item, at) in items(value)" :key="at">
              <template v-if="at">, </template>
              <RouterLink v-if="/^[a-z][a-z0-9-]*:/.test(item) && key !== 'departs'" :to="{ name: 'entity', params: { name: item } }" class="mono">{{ item }}</RouterLink>
              <code v-else>{{ item }}</code>
            </template>
          </dd>
        </template>
      </dl>
    </section>
    <section class="sheet" aria-labelledby="holds">
      <h2 id="holds">Holds</h2>
      <p v-if="!shown.data.value.grants.length" class="soft">No grant of its own.</p>
      <ul>
        <li v-for="{ grant } in shown.data.value.grants" :key="String(grant.id)">
          <strong>{{ grant.role }}</strong> at {{ grant.at }}<template v-if="grant.from">, from {{ grant.from }}</template
          ><template v-if="grant.until">, until {{ grant.until }}</template> <span class="soft">({{ grant.id }})</span>
        </li>
      </ul>
      <template v-if="shown.data.value.groups.length">
        <h2>In</h2>
        <ul>
          <li v-for="group in shown.data.value.groups" :key="group">
            <RouterLink :to="{ name: 'entity', params: { name: group } }" class="mono">{{ group }}</RouterLink>
          </li>
        </ul>
      </template>
    </section>
    <section v-if="shown.data.value.contents.length" class="sheet" aria-labelledby="contains">
      <h2 id="contains">Contains</h2>
      <ul>
        <li v-for="inner in shown.data.value.contents" :key="inner">
          <RouterLink :to="{ name: 'entity', params: { name: inner } }" class="mono">{{ inner }}</RouterLink>
        </li>
      </ul>
    </section>
  </div>
</template>

<style scoped>
.sheets {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(300px, 1fr));
  gap: 16px;
  margin-top: 16px;
  align-items: start;
}
dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 4px 16px;
  margin: 8px 0 0;
}
dt {
  color: var(--soft);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
ul {
  margin: 6px 0 0;
  padding-left: 18px;
}
</style>
