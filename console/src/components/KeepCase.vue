<script setup lang="ts">
import { ref, watch } from 'vue'
import type { Question } from '../api/calls'
import { api } from '../api/calls'
import type { Explanation } from '../api/types'
import FailureNote from './FailureNote.vue'
import { useAsync } from '../composables/useAsync'
import { happened } from '../support/happened'

/** Keeps an answer as a case, so that trying fills the rehearsal. */
const props = defineProps<{ question: Question; answer: Explanation }>()
const name = ref('')
const because = ref(false)
const kept = useAsync(api.keepCase)
watch(
  () => props.question,
  ({ subject, permission, resource }) => {
    kept.clear()
    name.value = `${subject} ${props.answer.allowed ? 'may' : 'may not'} ${permission}${resource ? ` on ${resource}` : ''}`
  },
  { immediate: true },
)

async function keep() {
  const { subject, permission, resource, context, ofSubject, ofResource, now } = props.question
  const said = Object.keys(ofSubject).length + Object.keys(ofResource).length > 0
  const done = await kept.run({
    name: name.value.trim(),
    subject,
    permission,
    may: props.answer.allowed,
    context,
    ...(said ? { properties: { subject: ofSubject, resource: ofResource } } : {}),
    ...(resource ? { resource } : {}),
    ...(now ? { now } : {}),
    ...(because.value ? { because: props.answer.reason } : {}),
  })
  if (done) happened(`Kept as case ${done.number}`, { back: () => api.takeCaseAway(done.number), then: kept.clear })
}
</script>

<template>
  <form class="plain keep" aria-label="Keep as a case" @submit.prevent="keep">
    <h2>Keep as a case</h2>
    <p v-if="kept.data.value" role="status">
      Kept as case {{ kept.data.value.number }}. <a href="/api/v1/cases/file" download="cases.toml">All cases as a rehearsal file</a>
    </p>
    <template v-else>
      <label>What it shows<ElInput v-model="name" name="case" maxlength="400" autocomplete="off" /></label>
      <ElCheckbox v-model="because"
        >and because of <code>{{ answer.reason }}</code></ElCheckbox
      >
      <FailureNote v-if="kept.error.value" :error="kept.error.value" />
      <ElButton native-type="submit" size="small" :disabled="!name.trim()" :loading="kept.busy.value">Keep it</ElButton>
    </template>
  </form>
</template>

<style scoped>
.keep {
  display: grid;
  gap: 6px;
  justify-items: start;
  margin-top: 20px;
}
.keep > label:not(.el-checkbox) {
  width: 100%;
}
p {
  margin: 0;
}
</style>
