<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api } from '../api/calls'
import type { Model } from '../api/types'
import FailureNote from './FailureNote.vue'
import NameField from './NameField.vue'
import NestedFrames from './NestedFrames.vue'
import { useAsync } from '../composables/useAsync'

/** The relationships picture, and the same as a list that can be read and edited. */
const props = defineProps<{ model: Model }>()
const route = useRoute()
const router = useRouter()
const on = computed(() => (typeof route.query.on === 'string' ? route.query.on : ''))
const asked = ref('')
const around = useAsync(api.around)
const tenants = useAsync(() => api.entities('tenant:', 20))
const written = useAsync(api.setFacts)
const relation = ref('')
const target = ref('')
const declared = computed(() => props.model.types.find((type) => type.key === on.value.split(':')[0])?.relations ?? [])
const chosen = computed(() => declared.value.find((known) => known.key === relation.value))

watch(
  on,
  (name) => {
    asked.value = name
    relation.value = ''
    if (name) void around.run(name)
    else void tenants.run()
  },
  { immediate: true },
)

const focus = (name: string) => router.push({ name: 'refine', query: { on: name } })

async function write(set: string[], remove: string[]) {
  if (!(await written.run(set, remove))) return
  target.value = ''
  await around.run(on.value)
}

function relate() {
  const sign = chosen.value?.many ? '+=' : '='
  return write([`${on.value}.${relation.value} ${sign} ${target.value.trim()}`], [])
}
</script>

<template>
  <form class="plain line" aria-label="Focus" @submit.prevent="focus(asked.trim())">
    <NameField v-model="asked" label="Look at" placeholder="manifest:m-204" :width="20" />
    <ElButton native-type="submit" :disabled="!asked.includes(':')">Show</ElButton>
  </form>
  <FailureNote v-if="around.error.value ?? written.error.value" :error="(around.error.value ?? written.error.value)!" />
  <p v-if="!on" class="start">
    Choose one thing to see what it lies within and who stands in a relation to it.
    <template v-if="tenants.data.value?.items.length">
      Begin at
      <template v-for="(one, n) in tenants.data.value.items" :key="one.entity"
        ><template v-if="n">, </template
        ><RouterLink :to="{ query: { on: one.entity } }" class="mono">{{ one.entity }}</RouterLink></template
      >.</template
    >
  </p>
  <p v-else-if="!around.data.value && around.busy.value" class="soft">Reading the register …</p>
  <div v-if="on && around.data.value" class="sides">
    <section aria-label="Picture" class="picture"><NestedFrames :around="around.data.value" @focus="focus" /></section>
    <section class="sheet plain" aria-label="The same as a list">
      <ul class="tree">
        <li v-for="(outer, depth) in [...around.data.value.outer].reverse()" :key="outer.name" :style="{ paddingLeft: `${depth * 14}px` }">
          <ElButton link class="name" @click="focus(outer.name)">{{ outer.name }}</ElButton><span v-if="outer.detached" class="denied">
            detached</span
          >
        </li>
        <li :style="{ paddingLeft: `${around.data.value.outer.length * 14}px` }">
          <RouterLink :to="{ name: 'entity', params: { name: on } }" class="mono"
            ><strong>{{ on }}</strong></RouterLink
          ><span v-if="around.data.value.detached" class="denied"> detached</span>
          <ul class="tree">
            <li v-for="one in around.data.value.relations" :key="one.relation">
              {{ one.relation }}<template v-if="one.confers.length">, which confers {{ one.confers.join(', ') }}</template
              >:
              <template v-if="!one.count"> nobody</template>
              <ul class="tree">
                <li v-for="name in one.to" :key="name">
                  <ElButton link class="name" @click="focus(name)">{{ name }}</ElButton>
                  <ElButton
                    size="small"
                    :aria-label="`Take out ${name} as ${one.relation}`"
                    @click="write([], [`${on}.${one.relation} += ${name}`])"
                    >Take out</ElButton
                  >
                </li>
              </ul>
            </li>
            <li v-for="inner in around.data.value.inside" :key="inner.name">
              <ElButton link class="name" @click="focus(inner.name)">{{ inner.name }}</ElButton><span v-if="inner.detached" class="denied">
                detached</span
              >
            </li>
          </ul>
        </li>
      </ul>
      <form v-if="declared.length" class="line" aria-label="Relate" @submit.prevent="relate">
        <label
          >Relation<ElSelect v-model="relation" name="relation" filterable
            ><ElOption v-for="known in declared" :key="known.key" :value="known.key" :label="`${known.key} (${known.kind})`" /></ElSelect
        ></label>
        <NameField v-model="target" label="To" placeholder="user:tomas" :width="14" />
        <ElButton native-type="submit" size="small" :disabled="!relation || !target.includes(':')" :loading="written.busy.value">{{
          chosen && !chosen.many ? 'Set it' : 'Add it'
        }}</ElButton>
      </form>
      <p v-if="around.data.value.namers.length" class="soft">
        Named by
        <template v-for="(namer, n) in around.data.value.namers" :key="namer.name + namer.relation"
          ><template v-if="n">, </template><ElButton link class="name" @click="focus(namer.name)">{{ namer.name }}</ElButton> as
          {{ namer.relation }}</template
        >.
      </p>
    </section>
  </div>
</template>

<style scoped>
.start {
  max-width: 46em;
}
.sides {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(280px, 2fr);
  gap: 16px;
  align-items: start;
  margin-top: 16px;
}
.picture {
  overflow-x: auto;
  padding: 2px;
}
.tree {
  list-style: none;
  margin: 0;
  padding: 0 0 0 14px;
}
.tree:first-child {
  padding-left: 0;
}
.tree a {
  display: inline-block;
  min-height: 24px;
}
.tree .el-button {
  margin-left: 10px;
}
form.line {
  margin-top: 12px;
}
@media (max-width: 900px) {
  .sides {
    grid-template-columns: 1fr;
  }
}
</style>
