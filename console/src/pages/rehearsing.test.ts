import { flushPromises, mount } from '@vue/test-utils'
import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import { createMemoryHistory, createRouter } from 'vue-router'
import { routes } from '../router'
import EntityForm from '../components/EntityForm.vue'
import NameField from '../components/NameField.vue'
import PermissionsField from '../components/PermissionsField.vue'
import RehearsalForms from '../components/RehearsalForms.vue'
import RehearsePage from './RehearsePage.vue'

let sent: { method: string; path: string; body?: unknown }[] = []
let answers: Record<string, unknown> = {}
const run = (number: number, more = {}) => ({
  number,
  of: 'live',
  author: 'k-1',
  'started-at': '2026-11-23T09:00:00Z',
  state: 'held',
  words: `run ${number}`,
  'ended-at': 'then',
  ...more,
})
const report = (passed: boolean) => ({
  of: 'live',
  at: '',
  charter: '',
  cases: [
    {
      name: 'A junior is refused',
      place: 'cases.toml:6',
      passed,
      checks: [
        {
          subject: 'user:ines',
          permission: 'manifest:release',
          resource: 'manifest:m-204',
          expected: false,
          passed,
          explanation: { allowed: true, reason: 'role:inspector', sentence: 'inspector' },
        },
      ],
    },
  ],
  guarantees: [
    { name: 'Nobody', place: 'g.toml:1', claim: 'never manifest:release', outcome: passed ? 'proved' : 'undecided', why: 'it was stopped' },
  ],
  shift: {
    gaining: 0,
    losing: 1,
    subjects: 3,
    asked: 9,
    permissions: ['manifest:view'],
    unexamined: ['berth:close: for nobody'],
    lines: [
      {
        lost: true,
        kind: 'service',
        permission: 'manifest:view',
        before: 'role:reader',
        after: 'no-role',
        subjects: 1,
        resources: 2,
        who: [{ subject: 'service:feed', count: 2, on: ['manifest:a'] }],
      },
    ],
  },
  coverage: { roles: ['visitor'], rules: [], clauses: [], removable: ['the rule x'], tried: 1, parts: 1 },
})

beforeEach(() => {
  vi.useFakeTimers()
  sent = []
  answers = { 'GET /api/v1/rehearsals/1': report(true), 'GET /api/v1/rehearsals/2': report(false) }
  vi.stubGlobal('fetch', async (path: string, options: RequestInit) => {
    sent.push({ method: options.method!, path, body: options.body ? JSON.parse(String(options.body)) : undefined })
    const found = answers[`${options.method} ${path}`]
    if (options.method === 'DELETE') return new Response(null, { status: 204 })
    const status = path.includes('nobody') ? 404 : 422
    return new Response(JSON.stringify(found ?? { type: '', title: '', status, detail: `No answer to ${path}.` }), {
      status: found ? 200 : status,
    })
  })
})
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

async function open(path: string) {
  const router = createRouter({ history: createMemoryHistory(), routes })
  await router.push(path)
  const page = mount(RehearsePage, { global: { plugins: [router] } })
  await flushPromises()
  return page
}

it('is watched while it runs, stopped, and told when it has ended, beside the run before', async () => {
  answers['GET /api/v1/rehearsals'] = []
  answers['POST /api/v1/rehearsals'] = run(2, { state: 'running' })
  const page = await open('/rehearse')
  expect(page.text()).toContain('Nothing was rehearsed yet')
  answers['GET /api/v1/rehearsals'] = [
    run(2, { state: 'running', words: 'settling the guarantees', progress: [3, 12], 'ended-at': undefined }),
    run(1),
  ]
  await page.find('button').trigger('click')
  await flushPromises()
  expect(sent.some((one) => one.method === 'POST' && JSON.stringify(one.body) === '{}')).toBe(true)
  expect(page.get('[role=progressbar]').attributes('aria-valuenow')).toBe('25')
  await page
    .findAll('button')
    .find((one) => one.text() === 'Stop it')!
    .trigger('click')
  expect(sent.some((one) => one.method === 'DELETE' && one.path === '/api/v1/rehearsals/2')).toBe(true)
  answers['GET /api/v1/rehearsals'] = [run(2, { state: 'failed', words: '0 of 1 case pass' }), run(1)]
  await vi.advanceTimersByTimeAsync(2_000)
  await flushPromises()
  const text = page.text()
  for (const said of [
    '0 of 1 case pass',
    'undecided Nobody',
    'it was stopped',
    'and should not: inspector',
    'loses manifest:view',
    '1 service:',
    'berth:close: for nobody',
    'case A junior is refused: fails, was: passes',
    'could be left out',
  ])
    expect(text).toContain(said)
  const calls = sent.length
  await vi.advanceTimersByTimeAsync(5_000)
  expect(sent.length).toBe(calls)
})

it('lists every guarantee with its verdict', async () => {
  answers['GET /api/v1/rehearsals'] = [run(1)]
  const page = await open('/rehearse/guarantees')
  expect(page.find('tbody').text()).toContain('proved')
  expect(page.find('tbody').text()).toContain('never manifest:release')
})

it('keeps files that are not saved over a reload, and does not save them over what somebody else saved', async () => {
  localStorage.clear()
  const text = (number: number, words: string) => ({ number, files: [{ path: 'cases.toml', text: words }], findings: [] })
  answers['GET /api/v1/rehearsal'] = text(1, 'one')
  answers['GET /api/v1/cases'] = []
  const page = await open('/rehearse/samples')
  await page.find('textarea').setValue('mine')
  page.unmount()
  answers['GET /api/v1/rehearsal'] = text(2, 'theirs')
  const again = await open('/rehearse/samples')
  expect(again.find('textarea').element.value).toBe('mine')
  expect(again.text()).toContain('Somebody saved them since you began')
  const press = async (words: string) => {
    await again
      .findAll('button')
      .find((one) => one.text() === words)!
      .trigger('click')
    await flushPromises()
  }
  await press('Mine stay: save over them')
  answers['PUT /api/v1/rehearsal'] = text(3, 'mine')
  await press('Save the files')
  expect(sent.filter((one) => one.method === 'PUT').map((one) => one.body)).toEqual([
    { files: [{ path: 'cases.toml', text: 'mine' }], from: 2 },
  ])
  expect(again.text()).not.toContain('Somebody saved them')
  again.unmount()
  answers['GET /api/v1/rehearsal'] = text(3, 'mine')
  expect(localStorage.getItem('ostrog-text-rehearsal')).toBeNull()
})

it('takes guarantees, cases and samples from forms into the text, and saves what is written', async () => {
  answers['GET /api/v1/rehearsal'] = { number: 4, files: [{ path: 'table.csv', text: 'subject,permission\n' }], findings: [] }
  answers['GET /api/v1/cases'] = []
  answers['GET /api/v1/model'] = { applications: [], types: [], others: [], roles: [], rules: [], context: [] }
  answers['GET /api/v1/entities/user%3Aines'] = {
    entity: { entity: 'user:ines', tenants: ['northline'] },
    groups: ['group:night'],
    grants: [],
    contents: [],
    tag: 't',
    position: 1,
  }
  const page = await open('/rehearse/samples')
  const forms = page.getComponent(RehearsalForms)
  const choose = (at: number, text: string) => forms.findAllComponents(PermissionsField)[at]!.vm.$emit('update:modelValue', text)
  choose(0, 'manifest:release')
  await forms.get('textarea[name=where]').setValue('resource.held')
  expect(forms.text()).toContain('Nobody ever may manifest:release, where resource.held.')
  const write = () => forms.findAll('button').find((one) => one.text() === 'Write it into the text')!
  expect(write().attributes()).toHaveProperty('disabled')
  await forms.get('input[name=guarantee]').setValue('Held stays held')
  await forms.get('form[aria-label="A guarantee"]').trigger('submit')
  // A table of cases has no place for it: a new text is begun.
  const text = () => (page.get('textarea[spellcheck=false]').element as HTMLTextAreaElement).value
  expect(text()).toBe('[[guarantee]]\nname = "Held stays held"\nnever = "manifest:release"\nwhen = "resource.held"\n')

  forms.getComponent({ name: 'ElSegmented' }).vm.$emit('update:modelValue', 'case')
  await flushPromises()
  const [as] = forms.findAllComponents(NameField)
  as!.vm.$emit('update:modelValue', 'user:ines')
  choose(1, 'manifest:release, manifest:amend')
  await forms.get('input[name=case]').setValue('She may not')
  await forms.get('form[aria-label="A case"]').trigger('submit')
  expect(text()).toContain('\n\n[[case]]\nname = "She may not"\nas = "user:ines"\nmay-not = ["manifest:release", "manifest:amend"]\n')

  forms.getComponent({ name: 'ElSegmented' }).vm.$emit('update:modelValue', 'sample')
  await flushPromises()
  for (const [name, said] of [
    ['user:ines', '[sample."user:ines"]\ntenants = ["northline"]\ngroups = ["night"]\n'],
    ['user:nobody', '[sample."user:nobody"]\n'],
  ] as const) {
    forms.getComponent(NameField).vm.$emit('update:modelValue', name)
    await flushPromises()
    await forms.get('form[aria-label="A sample"]').trigger('submit')
    const form = await vi.waitFor(() => forms.getComponent(EntityForm).get('form'))
    await form.trigger('submit')
    expect(text()).toContain(said)
  }
  answers['PUT /api/v1/rehearsal'] = { number: 5, files: [], findings: [] }
  await page
    .findAll('button')
    .find((one) => one.text() === 'Save the files')!
    .trigger('click')
  const saved = sent.find((one) => one.method === 'PUT')!.body as { files: { path: string }[] }
  expect(saved.files.map((file) => file.path)).toEqual(['table.csv', 'written.toml'])
})
