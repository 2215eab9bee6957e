import { flushPromises, mount } from '@vue/test-utils'
import { ElDatePicker, ElTreeSelect } from 'element-plus'
import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import { service, type Sent } from '../tests/service'
import EntityForm from './EntityForm.vue'
import MomentField from './MomentField.vue'
import NameField from './NameField.vue'
import PlaceField from './PlaceField.vue'

let answers: Record<string, unknown>
let sent: Sent[]

beforeEach(() => {
  answers = {}
  ;({ sent } = service(answers))
})
afterEach(() => void vi.unstubAllGlobals())

it('takes a moment that is chosen, and one that is typed: a date alone is its midnight', async () => {
  const field = mount(MomentField, { props: { modelValue: '', label: 'Until', placeholder: 'no end' } })
  const said = () => field.emitted('update:modelValue')?.at(-1)?.[0]
  field.findComponent(ElDatePicker).vm.$emit('update:modelValue', new Date('2026-11-23T22:00:00Z'))
  expect(said()).toBe('2026-11-23T22:00:00.000Z')
  const type = async (text: string) => {
    const input = field.find('input')
    ;(input.element as HTMLInputElement).value = text
    await input.trigger('focusout')
  }
  await type('2027-01-01')
  expect(said()).toBe('2027-01-01T00:00:00Z')
  await type('2027-01-01T08:30:00+01:00')
  expect(said()).toBe('2027-01-01T08:30:00+01:00')
  await type('soon')
  expect(said(), 'what is no moment changes nothing').toBe('2027-01-01T08:30:00+01:00')
  expect(field.text()).toMatch(/Until\s+\(.+\)/)
})

it('suggests names of the types that fit, and leaves Enter to the form', async () => {
  answers['GET /api/v1/entities'] = { items: [{ entity: 'user:ines', attributes: { clearance: 3 } }, { entity: 'booking:ines-1' }] }
  const asked = vi.fn()
  const Form = {
    components: { NameField },
    template: '<form @submit.prevent="asked"><NameField v-model="name" label="Subject" placeholder="" :types="[\'user\']" /></form>',
    data: () => ({ name: '' }),
    methods: { asked },
  }
  const form = mount(Form, { attachTo: document.body })
  const field = form.findComponent(NameField)
  const suggest = (field.findComponent({ name: 'ElAutocomplete' }).props() as { fetchSuggestions: (text: string) => Promise<unknown> })
    .fetchSuggestions
  expect(await suggest('ines')).toEqual([{ value: 'user:ines', note: 'clearance 3' }])
  expect(sent[0]!.path).toContain('prefix=user')
  expect(await suggest('i'), 'of one letter nothing is looked for').toEqual([{ value: 'user:', note: 'a type' }])
  await field.find('input').setValue('user:ines')
  await field.find('input').trigger('keydown', { key: 'Enter', code: 'Enter' })
  await flushPromises()
  expect(asked).toHaveBeenCalledTimes(1)
  form.unmount()
})

it('opens places step by step, and finds them by a part of their name', async () => {
  answers['GET /api/v1/entities?prefix=tenant%3A&limit=50&brief=true'] = { items: [{ entity: 'tenant:northline' }] }
  answers['GET /api/v1/entities?limit=20&containing=kes&brief=true'] = {
    items: [{ entity: 'vessel:kestrel' }, { entity: 'user:kess' }],
  }
  answers['GET /api/v1/entities/tenant%3Anorthline/around'] = { inside: [{ name: 'vessel:kestrel' }] }
  const field = mount(PlaceField, { props: { modelValue: 'everywhere', label: 'At', width: 18 } })
  await flushPromises()
  const tree = () =>
    field.findComponent(ElTreeSelect).props() as unknown as {
      data: { value: string }[]
      load: (node: unknown, resolve: (all: unknown[]) => void) => void
      remoteMethod: (text: string) => Promise<void>
    }
  expect(tree().data.map((one) => one.value)).toEqual(['everywhere', 'tenant:northline'])
  const inside = await new Promise<unknown[]>((done) => tree().load({ level: 1, data: { value: 'tenant:northline' } }, done))
  expect(inside).toMatchObject([{ value: 'vessel:kestrel' }])
  await tree().remoteMethod('kes')
  await flushPromises()
  expect(
    tree().data.map((one) => one.value),
    'nobody is a place',
  ).toEqual(['vessel:kestrel'])
  await tree().remoteMethod('')
  expect(tree().data).toHaveLength(2)
})

it('writes an entity by what its type declares, and leaves what it does not know', async () => {
  const property = (key: string, kind: string, more = {}) => ({
    key,
    kind,
    many: false,
    from: 'register',
    'across-tenants': false,
    ...more,
  })
  const type = {
    key: 'manifest',
    within: ['voyage'],
    attributes: [
      property('hazard', 'integer'),
      property('held', 'boolean'),
      property('marks', 'text', { many: true }),
      property('weight', 'decimal', { from: 'request' }),
    ],
    relations: [property('declarant', 'user')],
  }
  const line = {
    entity: 'manifest:m-1',
    within: 'voyage:v-9',
    attributes: { hazard: 5, marks: ['a', 'b'], old: 'kept' },
    relations: { declarant: ['user:tomas'], stranger: ['user:x'] },
  }
  const form = mount(EntityForm, { props: { model: { types: [type], others: [] }, line } as never })
  await flushPromises()
  expect(form.text(), 'what only a request says is not written').not.toContain('weight')
  await form.find('input[name=hazard]').setValue('7')
  await form.find('input[name=marks]').setValue('a, c')
  await form.find('form').trigger('submit')
  expect(form.emitted('write')?.[0]?.[0]).toEqual({
    entity: 'manifest:m-1',
    within: 'voyage:v-9',
    attributes: { old: 'kept', hazard: 7, marks: ['a', 'c'] },
    relations: { stranger: ['user:x'], declarant: ['user:tomas'] },
  })
  await form.find('input[name=hazard]').setValue('')
  await form.find('form').trigger('submit')
  expect(form.emitted('write')?.[1]?.[0]).toMatchObject({ attributes: { old: 'kept', marks: ['a', 'c'] } })
})
