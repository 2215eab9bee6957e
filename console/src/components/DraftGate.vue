<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { api } from '../api/calls'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'
import { useKeyNames } from '../composables/useKeyNames'
import FailureNote from './FailureNote.vue'

/** Where a text is changed: in a draft, which is opened or begun here. */
defineProps<{ what: string }>()
const draft = useDraft()
const names = useKeyNames()
const drafts = useAsync(api.drafts)
const title = ref('')
onMounted(() => !draft.draft.value && void drafts.run())

async function begin() {
  if (await draft.begin(title.value.trim())) title.value = ''
}
</script>

<template>
  <FailureNote v-if="draft.error.value && !draft.draft.value" :error="draft.error.value" />
  <slot v-if="draft.draft.value" />
  <form v-else class="sheet plain gate" aria-label="Draft" @submit.prevent="begin">
    <p>{{ what }} What is live is never written over: it is changed in a draft, and put live when it is right.</p>
    <div class="line">
      <label
        >What the draft is about<ElInput
          v-model="title"
          name="title"
          maxlength="200"
          autocomplete="off"
          placeholder="Night shift may assign berths"
      /></label>
      <ElButton type="primary" native-type="submit" :disabled="!title.trim()" :loading="draft.busy.value">Begin a draft</ElButton>
    </div>
    <FailureNote v-if="drafts.error.value" :error="drafts.error.value" />
    <template v-if="drafts.data.value?.length">
      <p class="soft">Or go on with one:</p>
      <ul>
        <li v-for="one in drafts.data.value" :key="one.id">
          <ElButton size="small" @click="draft.open(one.id)">{{ one.id }}</ElButton> {{ one.title }}
          <span class="soft">by {{ one.authors.map(names.called).join(', ') }}</span>
        </li>
      </ul>
    </template>
  </form>
</template>

<style scoped>
.gate {
  margin: 16px 0;
  max-width: 720px;
}
.gate p {
  margin: 0 0 8px;
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 12px;
  align-items: end;
}
.line label {
  flex: 1 1 300px;
}
ul {
  margin: 0;
  padding: 0;
  list-style: none;
}
li {
  padding: 3px 0;
}
</style>
