<script setup lang="ts">
import { computed, watch } from 'vue'
import { RouterLink, useRoute } from 'vue-router'
import { api } from '../api/calls'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'
import { useKeyNames } from '../composables/useKeyNames'
import { useSession } from '../composables/useSession'
import { rehearsedState } from '../support/rehearsed'
import { counted } from '../support/words'
import { texts } from '../texts/en'

/** The steps of a draft, each with how it stands in words, and one way on. */
const route = useRoute()
const draft = useDraft()
const session = useSession()
const names = useKeyNames()
const runs = useAsync(api.rehearsals)
watch([() => route.name, () => draft.draft.value?.digest], () => draft.draft.value && void runs.run(), { immediate: true })
const changes = computed(() => draft.standing.value?.changes ?? [])
const about = (...kinds: string[]) => changes.value.filter((change) => kinds.includes(change.about)).length
const said = (count: number) => (count ? counted(count, 'change') : 'as it is live')
const steps = computed(() => [
  {
    name: 'describe',
    text: texts.areas.describe,
    state: draft.errors.value
      ? counted(draft.errors.value, 'error')
      : said(about('application', 'type', 'context', 'group', 'subject', 'tenant', 'permission', 'attribute', 'relation')),
  },
  { name: 'roles', text: texts.areas.roles, state: said(about('role', 'tenant-roles')) },
  {
    name: 'give',
    text: texts.areas.give,
    state: draft.standing.value?.unfit.length ? `${counted(draft.standing.value.unfit.length, 'fact')} would not fit` : 'the grants fit',
  },
  { name: 'refine', text: texts.areas.refine, state: said(about('rule', 'confer', 'condition', 'separation')) },
  { name: 'connect', text: texts.areas.connect, state: said(about('route', 'affordance')) },
  { name: 'try', text: texts.areas.try, state: 'ask under it' },
  {
    name: 'rehearse',
    text: texts.areas.rehearse,
    state: draft.draft.value ? rehearsedState(runs.data.value ?? [], draft.draft.value, draft.isChanged.value) : '',
  },
  { name: 'rollout', text: texts.areas.rollout, state: draft.standing.value?.fits === false ? 'live has moved on' : 'reviewed, put live' },
])
/** Who else saved it. */
const others = computed(() => (draft.draft.value?.authors ?? []).filter((author) => author !== session.who.value?.key))
const within: Record<string, string> = { role: 'roles', review: 'rollout' }
const at = computed(() => steps.value.findIndex((step) => step.name === (within[String(route.name)] ?? route.name)))
/** The last step is the review of this draft. */
const to = (name: string) => (name === 'rollout' ? { name: 'review', params: { id: draft.draft.value!.id } } : { name })
/** From beside the way, such as Home, it leads on to nowhere. */
const next = computed(() => (at.value < 0 ? undefined : steps.value[at.value + 1]))
</script>

<template>
  <nav v-if="draft.draft.value" class="course" aria-label="Course">
    <ol>
      <li v-for="step in steps" :key="step.name">
        <RouterLink :to="to(step.name)">{{ step.text }}</RouterLink>
        <small :class="{ denied: step.name === 'describe' && draft.errors.value }">{{ step.state }}</small>
      </li>
    </ol>
    <span v-if="draft.present.value.length" role="status">open to {{ draft.present.value.join(', ') }} too</span>
    <span v-else-if="others.length" class="soft">also by {{ others.map(names.called).join(', ') }}</span>
    <span class="soft state" role="status">{{ draft.isChanged.value ? 'not saved yet' : 'all of it is saved' }}</span>
    <ElButton size="small" :disabled="!draft.isChanged.value || draft.busy.value" @click="draft.save">Save</ElButton>
    <RouterLink v-if="next" class="next" :to="to(next.name)" @click="draft.isChanged.value && draft.save()"
      >Next: {{ next.text }}</RouterLink
    >
  </nav>
</template>

<style scoped>
.course {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 16px;
  align-items: center;
  padding: 6px 20px;
  border-bottom: 1px solid var(--rule);
  background: var(--draft-ground);
}
ol {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 20px;
  flex: 1;
  margin: 0;
  padding: 0;
  list-style: none;
}
li a {
  display: block;
  text-decoration: none;
}
li a.router-link-active {
  font-weight: 700;
  text-decoration: underline;
}
small {
  color: var(--soft);
  font-size: 12px;
}
small.denied {
  color: var(--denied);
}
.next {
  font-weight: 700;
}
</style>
