<script setup lang="ts">
import { computed } from 'vue'
import type { Model, TypeShown } from '../api/types'

/** What lies within what, as frames in frames; what lies nowhere stands beside. By hand: it is a picture, and of text. */
const props = defineProps<{ model: Model; outer?: string; path?: string[] }>()
/** Of a type within itself only the first is drawn. */
const inner = computed(() => {
  const at = props.outer
  const inside = (type: TypeShown) => (at ? type.within.includes(at) : !type.within.length)
  return props.model.types.filter((type) => inside(type) && !(props.path ?? []).includes(type.key))
})
const applicationOf = (type: TypeShown) => props.model.applications.find((one) => one.key === type.application)?.name ?? ''
</script>

<template>
  <div :class="outer ? 'inner' : 'outermost'">
    <section v-if="!outer" class="frame" aria-label="Within a tenant">
      <p class="mono">tenant</p>
      <TypesPicture :model="model" outer="tenant" :path="[]" />
    </section>
    <section v-for="type in inner" :key="type.key" class="frame" :aria-label="type.key">
      <p>
        <span class="mono">{{ type.key }}</span>
        <small class="soft">{{ applicationOf(type) }}{{ type.within.includes(type.key) ? ', also in another' : '' }}</small>
      </p>
      <TypesPicture :model="model" :outer="type.key" :path="[...(path ?? []), type.key]" />
    </section>
  </div>
</template>

<style scoped>
.outermost {
  display: flex;
  flex-wrap: wrap;
  gap: 10px;
  align-items: flex-start;
  margin-bottom: 16px;
}
.inner {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
}
.frame {
  border: 1px solid var(--edge);
  border-radius: 2px;
  padding: 4px 10px 8px;
  background: var(--sheet);
  flex: 0 1 auto;
}
p {
  margin: 0 0 2px;
}
</style>
