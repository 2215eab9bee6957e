<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { RouterLink } from 'vue-router'
import { api } from '../api/calls'
import type { Model, TokenRead } from '../api/types'
import FailureNote from './FailureNote.vue'
import NameField from './NameField.vue'
import StakeMark from './StakeMark.vue'
import { useAsync } from '../composables/useAsync'
import { readJson, writeJson } from '../support/json'
import { counted } from '../support/words'

/** One token, or claims as if a token had them: what it says, whether it holds, what it means here. */
const props = defineProps<{ model: Model; name: string }>()
const how = ref<'token' | 'claims'>('token')
const token = ref('')
const issuer = ref(props.model.issuers[0]?.key ?? '')
const person = ref('')
const claims = ref('')
const wrong = ref('')
const read = useAsync(api.readToken)
const found = computed(() => read.data.value)
const meant = computed(() => props.model.issuers.find((one) => one.key === issuer.value))
type Claim = TokenRead['read'][number]
const outcomes: Record<string, string> = { counted: 'allowed', ignored: 'soft', undetermined: 'undetermined', missing: 'soft' }

/** What a token of somebody would have: the claims the charter reads, to be filled in. */
watch([person, issuer], () => {
  if (!person.value.trim() || !meant.value) return
  const id = person.value.trim().split(':')[1] ?? person.value.trim()
  const of = (about: string, claim: string) => {
    if (about === 'subject') return [claim, id]
    if (about === 'tenants' || about === 'session') return [claim, '']
    return about === 'groups' ? [claim, []] : undefined
  }
  claims.value = writeJson(Object.fromEntries(meant.value.claims.flatMap((one) => [of(one.about, one.claim)].filter((it) => !!it))), 2)
})

async function ask() {
  wrong.value = ''
  if (how.value === 'token') {
    // What is around a token when it is copied out of a request comes along often.
    const text = token.value
      .trim()
      .replace(/^Authorization:\s*/i, '')
      .replace(/^Bearer\s+/i, '')
    await read.run({ token: text })
    return
  }
  try {
    await read.run({ issuer: issuer.value, claims: readJson(claims.value) as Record<string, unknown> })
  } catch {
    wrong.value = 'The claims are no JSON object, such as {"sub": "ines"}.'
  }
}
const shown = (value: unknown) => (typeof value === 'string' ? value : writeJson(value))
const isTime = (name: string, value: unknown) => ['exp', 'iat', 'nbf', 'auth_time'].includes(name) && /^\d{1,12}$/.test(String(value))
const time = (value: unknown) => new Date(Number(value) * 1000).toISOString().replace('.000Z', 'Z')
</script>

<template>
  <section class="reader" :aria-label="name">
    <form class="sheet plain" :aria-label="`${name}: what to read`" @submit.prevent="ask">
      <ElSegmented
        v-model="how"
        :options="[
          { label: 'A token', value: 'token' },
          { label: 'Claims, as if a token had them', value: 'claims' },
        ]"
        :aria-label="`${name}: a token or claims`"
      />
      <label v-if="how === 'token'"
        >Token<ElInput v-model="token" type="textarea" :rows="6" name="token" placeholder="eyJ…" autocomplete="off" spellcheck="false" />
      </label>
      <template v-else>
        <div class="line">
          <label
            >Of<ElSelect v-model="issuer" name="token-issuer"
              ><ElOption v-for="one in model.issuers" :key="one.key" :value="one.key" :label="one.name" /></ElSelect
          ></label>
          <NameField v-model="person" label="For" placeholder="user:ines" :types="['user']" :width="14" />
        </div>
        <label
          >Claims<ElInput v-model="claims" type="textarea" :rows="6" name="claims" placeholder='{ "sub": "ines" }' spellcheck="false"
        /></label>
      </template>
      <p v-if="wrong" class="denied" role="alert">{{ wrong }}</p>
      <div>
        <ElButton
          type="primary"
          native-type="submit"
          :disabled="how === 'token' ? !token.trim() : !claims.trim()"
          :loading="read.busy.value"
          >Read it</ElButton
        >
        <span class="soft note">It is neither kept nor logged.</span>
      </div>
      <FailureNote v-if="read.error.value" :error="read.error.value" />
    </form>
    <div v-if="found" class="sheet" aria-live="polite">
      <h2>
        <StakeMark :kind="found.verified === false || found.nobody ? 'denied' : 'allowed'" />
        <template v-if="found.verified === false">Refused: {{ found.words }}</template>
        <template v-else-if="found.nobody">It names nobody here: {{ found.nobody }}</template>
        <template v-else
          >It names <RouterLink :to="{ name: 'entity', params: { name: found.subject! } }">{{ found.subject }}</RouterLink></template
        >
      </h2>
      <p v-if="found.verified !== false" class="soft">{{ found.words }}</p>
      <template v-if="found.read.length">
        <h3>Claim by claim, beside the register</h3>
        <ElTable :data="found.read">
          <ElTableColumn label="Claim" min-width="90"
            ><template #default="{ row }: { row: Claim }"
              ><code>{{ row.claim }}</code></template
            ></ElTableColumn
          >
          <ElTableColumn label="About" prop="about" min-width="130" />
          <ElTableColumn label="Counts" min-width="150"
            ><template #default="{ row }: { row: Claim }"
              ><span :class="outcomes[row.outcome]">{{ row.outcome }}</span
              ><span v-if="row.words" class="soft">: {{ row.words }}</span></template
            ></ElTableColumn
          >
          <ElTableColumn label="The register says" min-width="110"
            ><template #default="{ row }: { row: Claim }">{{ row.register ?? '' }}</template></ElTableColumn
          >
        </ElTable>
        <h3>What the bearer may do that the register alone would not give</h3>
        <p v-if="!found.gains.length" class="soft">Nothing.</p>
        <ul v-else>
          <li v-for="gain in found.gains" :key="gain.permission + gain.reason">
            <code>{{ gain.permission }}</code> on {{ gain.first.join(', ')
            }}{{ gain.resources > gain.first.length ? ` and ${gain.resources - gain.first.length} more` : '' }}
            <span class="soft">{{ gain.reason }}</span>
          </li>
        </ul>
        <template v-if="found.losses.length">
          <h3>And not, though the register would give it</h3>
          <ul>
            <li v-for="loss in found.losses" :key="loss.permission + loss.reason">
              <code>{{ loss.permission }}</code> on {{ counted(loss.resources, 'resource') }} <span class="soft">{{ loss.reason }}</span>
            </li>
          </ul>
        </template>
      </template>
      <template v-for="(part, title) in { Header: found.header, Claims: found.claims }" :key="title">
        <ElCollapse v-if="Object.keys(part).length">
          <ElCollapseItem :title="`${title}, as sent`" :name="title">
            <dl>
              <template v-for="(value, key) in part as Record<string, unknown>" :key="key">
                <dt>
                  <code>{{ key }}</code>
                </dt>
                <dd>
                  {{ shown(value) }} <span v-if="isTime(String(key), value)" class="soft">{{ time(value) }}</span>
                </dd>
              </template>
            </dl>
          </ElCollapseItem>
        </ElCollapse>
      </template>
    </div>
  </section>
</template>

<style scoped>
.reader {
  display: grid;
  gap: 16px;
  align-content: start;
}
form {
  display: grid;
  gap: 10px;
}
.note {
  margin-left: 12px;
}
h2 {
  margin-top: 0;
}
h3 {
  margin-top: 16px;
}
ul {
  margin: 4px 0;
  padding-left: 1.2em;
}
dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 2px 12px;
  margin: 0;
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
</style>
