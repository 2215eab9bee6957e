import { flushPromises } from '@vue/test-utils'
import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import BesidePanel from '../components/BesidePanel.vue'
import GroupPanel from '../components/GroupPanel.vue'
import ImportForm from '../components/ImportForm.vue'
import KeepCase from '../components/KeepCase.vue'
import StandbyPanel from '../components/StandbyPanel.vue'
import { useDraft } from '../composables/useDraft'
import { type Sent, button, choose, confirm, open, press, service, submit, takeAway } from '../tests/service'
import EntityPage from './EntityPage.vue'

let sent: Sent[] = []
let written: (method: string, path: string) => unknown[]
let answers: Record<string, unknown>
const done = { position: 'e.8', changed: [{}] }

beforeEach(() => {
  localStorage.clear()
  answers = {}
  ;({ sent, written } = service(answers))
})
afterEach(() => {
  useDraft().leave()
  vi.unstubAllGlobals()
  vi.useRealTimers()
})

it('activates a grant with a reason, for whom of a group, and with the context its condition asks for', async () => {
  vi.useFakeTimers({ now: new Date('2026-11-23T09:00:00Z'), toFake: ['Date'] })
  const role = { key: 'hot-works', standby: { longest: 7_200, reason: true, 'by-self': true, when: "context.zone == 'quay'" } }
  answers['GET /api/v1/activations'] = { items: [] }
  answers['GET /api/v1/grants'] = { items: [{ grant: { id: 'g-1', role: 'hot-works', to: 'group:welders', at: 'vessel:kestrel' } }] }
  const page = await open(StandbyPanel, '/give/standby', { model: { roles: [role, { key: 'deckhand' }] } })
  expect(page.text()).toContain('Nothing is active')
  await choose(page, 'grant', 'g-1')
  expect(page.text()).toContain("For 2 hours at most, and only when context.zone == 'quay'")
  const ready = () => button(page, 'Activate it').attributes('disabled') === undefined
  await page.find('input[name=reason]').setValue('permit 5531')
  expect(ready(), 'a group says for whom').toBe(false)
  await page.find('.field input').setValue('user:ines')
  await choose(page, 'minutes', 45)
  await page.find('input[name=context]').setValue('zone=quay')
  expect(ready()).toBe(true)
  // Refused first: what was typed stays.
  await submit(page, 'form')
  expect(page.text()).toContain('No answer to /api/v1/activations.')
  expect((page.find('input[name=reason]').element as HTMLInputElement).value).toBe('permit 5531')
  answers['POST /api/v1/activations'] = done
  answers['GET /api/v1/activations'] = {
    items: [{ activation: { id: 'a-1', grant: 'g-1', subject: 'user:ines', until: '2026-11-23T09:45:00Z', reason: 'permit 5531' } }],
  }
  await submit(page, 'form')
  const asked = { grant: 'g-1', subject: 'user:ines', until: '2026-11-23T09:45:00.000Z', reason: 'permit 5531', context: { zone: 'quay' } }
  expect(written('POST', '/api/v1/activations')).toEqual([asked, asked])
  expect(page.find('tbody').text()).toContain('permit 5531')
  answers['DELETE /api/v1/activations/a-1'] = done
  answers['GET /api/v1/activations'] = { items: [] }
  await takeAway(page, 'End a-1')
  expect(page.text()).toContain('Nothing is active')
})

it('takes members in and out of a group, page by page', async () => {
  answers['GET /api/v1/entities'] = { items: [{ entity: 'group:night', 'member-count': 2_000, tenant: 'northline' }], next: 'group:night' }
  answers['GET /api/v1/entities/group%3Anight/members'] = { items: ['user:a', 'user:b'], total: 2_000, next: 'user:b' }
  const page = await open(GroupPanel, '/give/groups?group=group:night')
  expect(page.text()).toContain('It stands for its members within northline only.')
  expect(page.text()).toContain('2,000 members in all')
  answers['POST /api/v1/facts'] = done
  await page.find('.field input').setValue('ines')
  expect(button(page, 'Take in').attributes('disabled'), 'a whole name').toBeDefined()
  await page.find('.field input').setValue(' user:ines ')
  await submit(page, 'form')
  await takeAway(page, 'Take out user:b')
  expect(written('POST', '/api/v1/facts')).toEqual([
    { set: ['user:ines in group:night'], remove: [] },
    { set: [], remove: ['user:b in group:night'] },
  ])
  await press(page, 'More members')
  expect(sent.filter((one) => one.path.includes('/members')).at(-1)!.path).toContain('after=user%3Ab')
  await press(page, 'More')
  expect(
    sent.filter((one) => one.path.startsWith('/api/v1/entities?prefix=group')).map((one) => one.path.includes('after=group%3Anight')),
  ).toEqual([false, true])
})

it('marks what only one of two subjects has', async () => {
  const held = (roles: string[]) => ({
    items: roles.map((role) => ({ grant: { id: role, role, to: 'user:x', at: 'everywhere' }, standing: 'counts' })),
    total: roles.length,
    from: [],
  })
  answers['GET /api/v1/holdings?by=user%3Aa&limit=1000'] = held(['deckhand', 'pilot'])
  answers['GET /api/v1/holdings?by=user%3Ab&limit=1000'] = held(['deckhand'])
  const page = await open(BesidePanel, '/give/beside?by=user:a&and=user:b')
  expect(page.findAll('tr.marked').map((row) => row.text().includes('pilot'))).toEqual([true])
  // Of one alone nothing can be told apart.
  const alone = await open(BesidePanel, '/give/beside?by=user:a')
  expect(alone.findAll('tr.marked')).toHaveLength(0)
})

it('writes an entity only as it was read, and deletes it only when that is answered', async () => {
  answers['GET /api/v1/entities/user%3Aines'] = {
    entity: { entity: 'user:ines', attributes: { clearance: 3 } },
    grants: [],
    groups: [],
    tag: '"t1"',
  }
  answers['GET /api/v1/entities/user%3Aines/around'] = { outer: [], contents: [], inside: [], namers: [] }
  answers['GET /api/v1/holdings'] = { items: [], total: 0, from: [] }
  answers['GET /api/v1/changes'] = { items: [], next: null }
  const page = await open(EntityPage, '/register/of/user:ines')
  // It is read whole only to be changed: a group may have a million members.
  expect(sent.map((one) => one.path)).not.toContain('/api/v1/entities/user%3Aines')
  const details = page.find('details')
  ;(details.element as HTMLDetailsElement).open = true
  await details.trigger('toggle')
  await flushPromises()
  const field = page.find('textarea[name=line]')
  await field.setValue('{"attributes": {')
  await submit(page, 'form')
  expect(page.text()).toContain('This is no JSON')
  expect(sent.some((one) => one.method === 'PUT')).toBe(false)
  await field.setValue('{"attributes":{"clearance":5}}')
  await submit(page, 'form')
  expect(page.text()).toContain('No answer to /api/v1/entities/user%3Aines.')
  expect((field.element as HTMLTextAreaElement).value, 'what was typed stays').toBe('{"attributes":{"clearance":5}}')
  const remove = page.findAll('button').find((one) => one.text().startsWith('Delete'))!
  await remove.trigger('click')
  expect(sent.some((one) => one.method === 'DELETE')).toBe(false)
  answers['DELETE /api/v1/entities/user%3Aines'] = done
  await confirm(page, 'Delete it, and what names it')
  expect(page.text()).toContain('It is deleted, and every fact that named it has ended.')
})

it('takes a document over but for what is left out, and puts it behind what is there', async () => {
  answers['POST /api/v1/texts/check'] = { standing: { findings: [], fits: true, changes: [], unfit: [] }, outline: [], model: null }
  answers['GET /api/v1/drafts/D-1'] = {
    draft: { id: 'D-1', title: '', authors: [], digest: 'a' },
    files: [{ path: 'crew.toml', text: '# Ours.\n' }],
  }
  answers['PUT /api/v1/drafts/D-1/presence'] = { others: [], digest: 'a' }
  answers['POST /api/v1/texts/import'] = {
    text: '# A guess.\n[resource.crew]\napplication = "crew"\nactions = { view = "See it", drop = "Drop it" }\n\n[[route]]\napplication = "crew"\n',
    operations: 2,
    routes: 1,
    unmapped: ['PATCH /x: no type'],
  }
  await useDraft().open('D-1')
  const page = await open(ImportForm, '/describe/import')
  await page.find('input[name=application]').setValue('Crew!')
  await page.find('textarea').setValue('openapi: 3.1.0')
  expect(button(page, 'Read it').attributes('disabled'), 'a key is lower-kebab').toBeDefined()
  await page.find('input[name=application]').setValue('crew')
  await submit(page, 'form')
  expect(page.text()).toContain('1 operation could not be mapped')
  const box = (text: string) =>
    page
      .findAll('label.el-checkbox')
      .find((one) => one.text().includes(text))!
      .find('input')
  await box('drop').setValue(true)
  await box('route').setValue(true)
  await press(page, 'Write the rest into the draft')
  const text = useDraft().files.value[0]!.text
  expect(text.startsWith('# Ours.\n\n# A guess.')).toBe(true)
  expect(text).toContain('view = "See it"')
  expect(text).not.toMatch(/drop|\[\[route\]\]/)
  expect(page.text()).toContain('1 piece written into crew.toml')
})

it('keeps an answer as a case, with what was said along and, if wanted, the reason', async () => {
  const question = {
    subject: 'user:ines',
    permission: 'manifest:release',
    resource: 'manifest:m-204',
    context: { zone: 'quay' },
    ofSubject: {},
    ofResource: { weight: 3 },
    now: '2026-11-23T09:00:00Z',
    suppose: [],
  }
  const page = await open(KeepCase, '/try', { question, answer: { allowed: false, reason: 'condition' } })
  expect((page.find('input[name=case]').element as HTMLInputElement).value).toBe('user:ines may not manifest:release on manifest:m-204')
  await page.find('input[type=checkbox]').setValue(true)
  answers['POST /api/v1/cases'] = { number: 7 }
  await submit(page, 'form')
  expect(written('POST', '/api/v1/cases')).toEqual([
    {
      name: 'user:ines may not manifest:release on manifest:m-204',
      subject: 'user:ines',
      permission: 'manifest:release',
      resource: 'manifest:m-204',
      may: false,
      context: { zone: 'quay' },
      properties: { subject: {}, resource: { weight: 3 } },
      now: '2026-11-23T09:00:00Z',
      because: 'condition',
    },
  ])
  expect(page.text()).toContain('Kept as case 7.')
})
