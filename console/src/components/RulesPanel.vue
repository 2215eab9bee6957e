<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, reactive, ref, watch } from 'vue'
import { api } from '../api/calls'
import type { Model, RuleShown } from '../api/types'
import ConditionTable from './ConditionTable.vue'
import DraftGate from './DraftGate.vue'
import FailureNote from './FailureNote.vue'
import NameField from './NameField.vue'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'
import { saidOf } from '../support/question'
import { KEY } from '../support/words'
import { texts } from '../texts/en'

/** Rules, denies first; each read on a real subject and resource; and changed in the draft. */
const props = defineProps<{ model: Model }>()
const draft = useDraft()
const chosen = ref('')
const rules = computed(() => [...(props.model.rules as RuleShown[])].sort((a, b) => (a.effect === b.effect ? 0 : a.effect === 'deny' ? -1 : 1)))
const rule = computed(() => rules.value.find((known) => known.key === chosen.value) ?? rules.value[0])
const on = reactive({ subject: '', resource: '', context: '' })
const asked = useAsync(api.ask)
const reading = computed(() => asked.data.value?.explanation.rules.find((told) => told.key === rule.value?.key))
const form = reactive({ key: '', effect: 'deny', permissions: '', when: '', message: '' })

watch(rule, (known) => {
  asked.clear()
  if (known) Object.assign(form, { key: known.key, effect: known.effect, permissions: known.permissions.join(', '), when: known.when ?? '', message: known.message ?? '' })
}, { immediate: true })

function read() {
  const permission = rule.value!.permissions.find((known) => known.split(':')[0] === on.resource.split(':')[0]) ?? rule.value!.permissions[0]!
  void asked.run({ subject: on.subject.trim(), permission, resource: on.resource.trim(), ...saidOf(on.context), now: '', suppose: [], ...(draft.draft.value ? { draft: draft.draft.value.id } : {}) })
}

function write() {
  const permissions = form.permissions.split(',').map((one) => one.trim()).filter(Boolean)
  const at = (key: string) => ['rule', form.key, key]
  return draft.edit([
    { path: at('effect'), value: form.effect },
    { path: at('permissions'), value: permissions },
    { path: at('when'), value: form.when.trim() || undefined },
    { path: at('message'), value: form.message.trim() || undefined },
  ])
}

async function takeOut() {
  if (await draft.edit([{ path: ['rule', form.key] }])) chosen.value = ''
}
</script>

<template>
  <div class="sides">
    <section class="sheet" aria-label="Rules">
      <p v-if="!rules.length">There is no rule. Rules stand above roles: a deny shuts whoever holds what.</p>
      <table v-else class="rows">
        <thead><tr><th scope="col">Effect</th><th scope="col">Rule</th><th scope="col">About</th><th scope="col">When</th></tr></thead>
        <tbody>
          <tr v-for="one in rules" :key="one.key" :class="{ chosen: one.key === rule?.key }">
            <td :class="one.effect === 'deny' ? 'denied' : 'allowed'">{{ one.effect === 'deny' ? 'denies' : 'allows' }}</td>
            <td><button type="button" class="name" :aria-pressed="one.key === rule?.key" @click="chosen = one.key">{{ one.key }}</button><br /><span class="soft">{{ one.message }}</span></td>
            <td>{{ one.permissions.join(', ') }}</td>
            <td><code v-if="one.when">{{ one.when }}</code><template v-else>always</template></td>
          </tr>
        </tbody>
      </table>
    </section>
    <section v-if="rule" class="sheet plain" aria-labelledby="reading">
      <h2 id="reading">{{ rule.key }}, read on something real</h2>
      <form class="line" @submit.prevent="read">
        <NameField v-model="on.subject" label="Subject" placeholder="user:ines" :width="12" />
        <NameField v-model="on.resource" label="Resource" placeholder="manifest:m-204" :width="14" />
        <label>Context<input v-model="on.context" class="mono" placeholder="zone=quay" autocomplete="off" /></label>
        <ElButton native-type="submit" :disabled="!on.subject || !on.resource" :loading="asked.busy.value">Read it</ElButton>
      </form>
      <FailureNote v-if="asked.error.value" :error="asked.error.value" />
      <template v-if="asked.data.value">
        <p v-if="!reading">The rule does not come into this question.</p>
        <template v-else>
          <p>Its condition is <strong :class="reading.value">{{ texts.marks[reading.value] }}</strong><template v-if="!reading.reaches">; it does not reach this subject</template>.</p>
          <ConditionTable :conditions="reading.conditions" />
        </template>
      </template>
      <DraftGate what="Rules are changed in a draft.">
        <h2>Change it</h2>
        <form class="fields" @submit.prevent="write">
          <div class="line">
            <label>Key<input v-model.trim="form.key" name="rule-key" class="mono" /></label>
            <label>Effect<select v-model="form.effect"><option value="deny">deny</option><option value="allow">allow</option></select></label>
          </div>
          <label>About<input v-model="form.permissions" class="mono" placeholder="manifest:release" /></label>
          <label>When<textarea v-model="form.when" rows="3" spellcheck="false" placeholder="subject == resource.declarant"></textarea></label>
          <label>Message<input v-model="form.message" placeholder="Nobody releases what they declared" /></label>
          <p>
            <ElButton native-type="submit" type="primary" :disabled="!KEY.test(form.key) || !form.permissions.trim()" :loading="draft.busy.value">{{ rules.some((one) => one.key === form.key) ? 'Write it into the draft' : 'Add it to the draft' }}</ElButton>
            <ElButton :disabled="!rules.some((one) => one.key === form.key)" @click="takeOut">Take the rule out</ElButton>
          </p>
        </form>
      </DraftGate>
    </section>
  </div>
</template>

<style scoped>
.sides {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(300px, 2fr);
  gap: 16px;
  align-items: start;
}
td:first-child {
  white-space: nowrap;
}
tr.chosen .name {
  font-weight: 700;
}
td {
  overflow-wrap: anywhere;
}
.fields {
  display: grid;
  gap: 8px;
}
@media (max-width: 900px) {
  .sides {
    grid-template-columns: 1fr;
  }
}
</style>
