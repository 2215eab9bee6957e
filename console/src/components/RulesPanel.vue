<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api } from '../api/calls'
import type { Model, RuleShown } from '../api/types'
import ConditionField from './ConditionField.vue'
import ConditionTable from './ConditionTable.vue'
import DraftGate from './DraftGate.vue'
import FailureNote from './FailureNote.vue'
import NameField from './NameField.vue'
import NarrowField from './NarrowField.vue'
import PermissionsField from './PermissionsField.vue'
import TakeAway from './TakeAway.vue'
import { useAsync } from '../composables/useAsync'
import { useDraft } from '../composables/useDraft'
import { useNarrowed } from '../composables/useNarrowed'
import { saidOf } from '../support/question'
import { KEY } from '../support/words'
import { texts } from '../texts/en'

/** Rules, denies first; each read on a real subject and resource; and changed in the draft. */
const props = defineProps<{ model: Model }>()
const draft = useDraft()
const route = useRoute()
const chosen = ref(typeof route.query.rule === 'string' ? route.query.rule : '')
const rules = computed(() =>
  [...(props.model.rules as RuleShown[])].sort((a, b) => (a.effect === b.effect ? 0 : a.effect === 'deny' ? -1 : 1)),
)
const rule = computed(() => rules.value.find((known) => known.key === chosen.value) ?? rules.value[0])
const { narrow, shown } = useNarrowed(
  rules,
  (one) => `${one.key} ${one.effect} ${one.permissions.join(' ')} ${one.when ?? ''} ${one.message ?? ''}`,
)
const on = reactive({ subject: '', resource: '', context: '' })
const asked = useAsync(api.ask)
const reading = computed(() => asked.data.value?.explanation.rules.find((told) => told.key === rule.value?.key))
const form = reactive({ key: '', effect: 'deny', permissions: '', when: '', message: '' })

watch(
  rule,
  (known) => {
    asked.clear()
    if (known)
      Object.assign(form, {
        key: known.key,
        effect: known.effect,
        permissions: known.permissions.join(', '),
        when: known.when ?? '',
        message: known.message ?? '',
      })
  },
  { immediate: true },
)

function read() {
  const permission =
    rule.value!.permissions.find((known) => known.split(':')[0] === on.resource.split(':')[0]) ?? rule.value!.permissions[0]!
  void asked.run({
    subject: on.subject.trim(),
    permission,
    resource: on.resource.trim(),
    ...saidOf(on.context),
    now: '',
    suppose: [],
    ...(draft.draft.value ? { draft: draft.draft.value.id } : {}),
  })
}

function write() {
  const permissions = form.permissions
    .split(',')
    .map((one) => one.trim())
    .filter(Boolean)
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
      <template v-else>
        <NarrowField v-model="narrow" :shown="shown.length" :of="rules.length" what="rules" />
        <ElTable :data="shown" row-key="key" :row-class-name="({ row }: { row: RuleShown }) => (row.key === rule?.key ? 'chosen' : '')">
          <ElTableColumn label="Effect" prop="effect" sortable width="90">
            <template #default="{ row }: { row: RuleShown }"
              ><span :class="row.effect === 'deny' ? 'denied' : 'allowed'">{{
                row.effect === 'deny' ? 'denies' : 'allows'
              }}</span></template
            >
          </ElTableColumn>
          <ElTableColumn label="Rule" prop="key" sortable min-width="150">
            <template #default="{ row }: { row: RuleShown }"
              ><ElButton link class="name" :aria-pressed="row.key === rule?.key" @click="chosen = row.key">{{ row.key }}</ElButton
              ><br /><span class="soft">{{ row.message }}</span></template
            >
          </ElTableColumn>
          <ElTableColumn label="About" sortable :sort-by="(row: RuleShown) => row.permissions.join()" min-width="130"
            ><template #default="{ row }: { row: RuleShown }">{{ row.permissions.join(', ') }}</template></ElTableColumn
          >
          <ElTableColumn label="When" min-width="180"
            ><template #default="{ row }: { row: RuleShown }"
              ><code v-if="row.when">{{ row.when }}</code
              ><template v-else>always</template></template
            ></ElTableColumn
          >
        </ElTable>
      </template>
    </section>
    <section v-if="rule" class="sheet plain" aria-labelledby="reading">
      <h2 id="reading">{{ rule.key }}, read on something real</h2>
      <form class="line" @submit.prevent="read">
        <NameField v-model="on.subject" label="Subject" placeholder="user:ines" :width="12" />
        <NameField v-model="on.resource" label="Resource" placeholder="manifest:m-204" :width="14" />
        <label>Context<ElInput v-model="on.context" placeholder="zone=quay" autocomplete="off" /></label>
        <ElButton native-type="submit" :disabled="!on.subject || !on.resource" :loading="asked.busy.value">Read it</ElButton>
      </form>
      <FailureNote v-if="asked.error.value" :error="asked.error.value" />
      <template v-if="asked.data.value">
        <p v-if="!reading">The rule does not come into this question.</p>
        <template v-else>
          <p>
            Its condition is <strong :class="reading.value">{{ texts.marks[reading.value] }}</strong><template v-if="!reading.reaches"
              >; it does not reach this subject</template
            >.
          </p>
          <ConditionTable
            :conditions="reading.conditions"
            :denying="reading.effect === 'deny' ? reading.conditions.map((one) => one.of) : []"
          />
        </template>
      </template>
      <DraftGate what="Rules are changed in a draft.">
        <h2>Change it</h2>
        <form class="fields" @submit.prevent="write">
          <div class="line">
            <label>Key<ElInput v-model.trim="form.key" name="rule-key" /></label>
            <div class="effect">
              <span class="soft">Effect</span><ElSegmented v-model="form.effect" :options="['deny', 'allow']" aria-label="Effect" />
            </div>
          </div>
          <PermissionsField v-model="form.permissions" label="About" :model="model" />
          <ConditionField v-model="form.when" label="When" placeholder="subject == resource.declarant" />
          <label>Message<ElInput v-model="form.message" placeholder="Nobody releases what they declared" /></label>
          <p>
            <ElButton
              native-type="submit"
              type="primary"
              :disabled="!KEY.test(form.key) || !form.permissions.trim()"
              :loading="draft.busy.value"
              >{{ rules.some((one) => one.key === form.key) ? 'Write it into the draft' : 'Add it to the draft' }}</ElButton
            >
            <TakeAway
              text="Take the rule out"
              name="Take the rule out"
              :asks="
                form.effect === 'deny'
                  ? 'What it denies is denied no more, in this draft.'
                  : 'What it allows is allowed no more, in this draft.'
              "
              answer="Take it out"
              :disabled="!rules.some((one) => one.key === form.key)"
              @confirmed="takeOut"
            />
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
:deep(tr.chosen .name) {
  font-weight: 700;
}
.effect {
  display: grid;
  gap: 2px;
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
