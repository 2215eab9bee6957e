<script setup lang="ts">
import { computed, reactive } from 'vue'
import { api } from '../api/calls'
import type { Model } from '../api/types'
import FailureNote from './FailureNote.vue'
import NameField from './NameField.vue'
import StakeMark from './StakeMark.vue'
import { useAsync } from '../composables/useAsync'

/** What a request behind a proxy comes to, for somebody: asked of what is live. */
const props = defineProps<{ model: Model; methods: string[] }>()
const asked = reactive({ application: props.model.routes[0]?.application ?? '', method: 'GET', path: '', who: '', token: '' })
const checked = useAsync(api.checkRoute)
const found = computed(() => checked.data.value)

function check() {
  const { application, method, path, who, token } = asked
  const by = token.trim() ? { token: token.trim() } : who.trim() ? { subject: who.trim() } : {}
  void checked.run({ application, method, path: path.trim(), ...by })
}
</script>

<template>
  <form class="sheet plain" aria-labelledby="check" @submit.prevent="check">
    <h2 id="check">Check a request against what is live</h2>
    <div class="line">
      <label
        >Application<ElSelect v-model="asked.application" name="check-of"
          ><ElOption v-for="one in model.applications" :key="one.key" :value="one.key" :label="one.key" /></ElSelect
      ></label>
      <label
        >Method<ElSelect v-model="asked.method" name="check-method"><ElOption v-for="one in methods" :key="one" :value="one" /></ElSelect
      ></label>
      <label class="wide"
        >Path, as it is sent<ElInput
          v-model="asked.path"
          name="check-path"
          placeholder="/manifests/m-204"
          autocomplete="off"
          spellcheck="false"
      /></label>
      <NameField v-model="asked.who" label="Who" placeholder="nobody signed in" :types="['user', 'service']" :width="12" />
      <label class="token"
        >or their token<ElInput v-model="asked.token" name="check-token" placeholder="eyJ…" autocomplete="off" spellcheck="false"
      /></label>
      <ElButton type="primary" native-type="submit" :disabled="!asked.path.trim()" :loading="checked.busy.value">Check</ElButton>
    </div>
    <FailureNote v-if="checked.error.value" :error="checked.error.value" />
    <div v-if="found" class="found" aria-live="polite">
      <p class="answer">
        <StakeMark :kind="found.allowed ? 'allowed' : 'denied'" />
        <b :class="found.allowed ? 'allowed' : 'denied'">{{ found.allowed ? 'It passes' : 'It is refused' }}</b>
        <code>{{ found.code }}</code>
        <span>{{ found.words }}</span>
      </p>
      <p v-if="found.route" class="soft">
        <code>{{ found.subject }}</code> takes <code>{{ found.route }}</code>
      </p>
      <ul v-if="found.needs?.length">
        <li v-for="one in found.needs" :key="one.permission + one.about">
          <StakeMark :kind="one.allowed ? 'allowed' : 'denied'" /> {{ one.allowed ? 'allowed' : 'denied' }}
          <code>{{ one.permission }}</code> of {{ one.about }} <span class="soft">{{ one.message ?? one.reason }}</span>
        </li>
      </ul>
    </div>
  </form>
</template>

<style scoped>
.sheet {
  margin-bottom: 16px;
  display: grid;
  gap: 8px;
}
.wide {
  flex: 1 1 14em;
}
.token {
  width: 11em;
}
.line > label {
  min-width: 8.5em;
}
.answer {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
  margin: 4px 0;
}
.found p,
ul {
  margin: 4px 0;
}
ul {
  list-style: none;
  padding: 0;
}
</style>
