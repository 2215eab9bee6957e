<script setup lang="ts">
import { computed } from 'vue'
import type { Around } from '../api/types'
import { counted } from '../support/words'

/** One thing within what it lies within, outermost first; the rest is counts. */
const props = defineProps<{ around: Around; depth?: number }>()
const emit = defineEmits<{ focus: [string] }>()
const depth = computed(() => props.depth ?? 0)
const frames = computed(() => [...props.around.outer].reverse())
const frame = computed(() => frames.value[depth.value])
</script>

<template>
  <div v-if="frame" class="frame" :class="{ detached: frame.detached }">
    <p>
      <ElButton link class="name" @click="emit('focus', frame.name)">{{ frame.name }}</ElButton>
      <span v-if="frame.detached" class="gap">detached: roles from around it stop here</span>
    </p>
    <NestedFrames :around="around" :depth="depth + 1" @focus="(name: string) => emit('focus', name)" />
    <p v-if="depth === frames.length - 1 && around.siblings" class="soft">
      and {{ counted(around.siblings, 'thing', 'things') }} beside it
    </p>
  </div>
  <div v-else class="focus">
    <ul v-if="around.relations.length" class="margin" aria-label="Who stands in a relation to it">
      <li v-for="relation in around.relations" :key="relation.relation">
        <span class="subjects">
          <ElButton v-for="name in relation.to.slice(0, 4)" :key="name" link class="name" @click="emit('focus', name)">{{ name }}</ElButton>
          <span v-if="relation.count > 4" class="soft">and {{ relation.count - 4 }} more</span>
          <span v-if="!relation.count" class="soft">nobody</span>
        </span>
        <span class="line">{{ relation.relation }}</span>
        <span v-if="relation.confers.length" class="role">{{ relation.confers.join(', ') }}</span>
      </li>
    </ul>
    <div class="frame own" :class="{ detached: around.detached }">
      <p>
        <strong class="mono">{{ around.name }}</strong>
        <span v-if="around.detached" class="gap">detached: roles from around it stop here</span>
      </p>
      <p v-if="around.grants" class="soft">{{ counted(around.grants, 'grant') }} given at it</p>
      <ul v-if="around.inside.length" class="inside">
        <li v-for="inner in around.inside.slice(0, 12)" :key="inner.name" :class="{ detached: inner.detached }">
          <ElButton link class="name" @click="emit('focus', inner.name)">{{ inner.name }}</ElButton>
        </li>
      </ul>
      <p v-for="kind in around.contents" :key="kind.key" class="soft">{{ counted(kind.count, kind.key) }} in it</p>
      <p v-for="kind in around['named-by']" :key="kind.key" class="soft">named as {{ kind.key }} by {{ counted(kind.count, 'other') }}</p>
    </div>
  </div>
</template>

<style scoped>
.frame {
  border: 1px solid var(--edge);
  border-radius: 2px;
  padding: 8px 12px 10px;
  background: var(--sheet);
}
.own {
  border-width: 2px;
  border-color: var(--ink);
}
.frame .frame {
  margin-top: 6px;
}
/* A gap around what is detached. */
.detached {
  outline: 1px dashed var(--denied);
  outline-offset: 4px;
  margin: 10px 6px 6px;
}
p {
  margin: 0;
}
.gap {
  color: var(--denied);
  margin-left: 8px;
}
.focus {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 0;
  align-items: center;
  margin-top: 6px;
}
.focus .own {
  flex: 1 1 200px;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
.margin li {
  display: flex;
  align-items: center;
  padding: 3px 0;
}
.subjects {
  display: grid;
  justify-items: end;
}
.line {
  border-bottom: 1px solid var(--ink);
  color: var(--soft);
  padding: 0 10px;
  min-width: 7em;
  text-align: center;
}
.role {
  border: 1px solid var(--allowed);
  color: var(--allowed);
  border-radius: 2px;
  padding: 0 6px;
  margin-right: 10px;
}
.inside {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  margin: 6px 0;
}
.inside li {
  border: 1px solid var(--rule);
  border-radius: 2px;
  padding: 0 6px;
}
.inside li.detached {
  margin: 4px;
  outline-offset: 2px;
}
</style>
