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

it('lays a document beside the draft, shows what is guessed and open, and writes what is chosen', async () => {
  answers['POST /api/v1/texts/check'] = { standing: { findings: [], fits: true, changes: [], unfit: [] }, outline: [], model: null }
  const files = [{ path: 'crew.toml', text: '# Ours.\n' }]
  answers['GET /api/v1/drafts/D-1'] = { draft: { id: 'D-1', title: '', authors: [], digest: 'a' }, files }
  answers['PUT /api/v1/drafts/D-1/presence'] = { others: [], digest: 'a' }
  const piece = (about: string, key: string, standing: string, more = {}) => ({
    about,
    key,
    standing,
    file: 'crew.toml',
    text: `# about ${key}`,
    guesses: [],
    permissions: [],
    ...more,
  })
  const suggested = {
    base: null,
    operations: 3,
    mapped: 2,
    known: true,
    open: ['POST /crews', 'GET /tides'],
    unmapped: [{ what: 'PATCH /x', why: 'no type', elsewhere: false }],
    guesses: [{ guess: 'id', words: 'how one is named', count: 1 }],
    pieces: [
      piece('type', 'crew', 'new'),
      piece('route', 'GET /crews/{crew}', 'new', { guesses: ['id'] }),
      piece('route', 'GET /tides', 'changed', { now: 'refuses' }),
      piece('route', 'GET /moons', 'gone', { text: '', now: 'open' }),
      piece('type', 'tide', 'same'),
    ],
  }
  answers['POST /api/v1/texts/import'] = suggested
  await useDraft().open('D-1')
  const page = await open(ImportForm, '/describe/import')
  await page.find('input[name=application]').setValue('Crew!')
  await page.find('textarea').setValue('openapi: 3.1.0')
  expect(button(page, 'Read it').attributes('disabled'), 'a key is lower-kebab').toBeDefined()
  await page.find('input[name=application]').setValue('crew')
  await page.find('input[name=base]').setValue('/v1')
  await submit(page, 'form')
  for (const words of ['2 of 3 operations mapped', 'does not say where its paths begin', '2 routes open to anybody', 'PATCH /x no type'])
    expect(page.text()).toContain(words)
  expect(page.findAll('article').map((one) => one.find('.head, pre').text())).toEqual([
    '# about crew',
    '# about GET /crews/{crew}',
    'route GET /tides: refuses here',
    'route GET /moons: open here',
  ])
  await choose(page, 'guess', 'id')
  expect(page.findAll('article').length, 'what is guessed so').toBe(1)
  await choose(page, 'guess', '')
  const box = (text: string) =>
    page
      .findAll('label.el-checkbox')
      .find((one) => one.text().includes(text))!
      .find('input')
  await box('route GET /crews').setValue(true)
  await box('No longer in the document').setValue(true)
  expect(button(page, 'Write 2 pieces into the draft')).toBeTruthy()
  answers['POST /api/v1/texts/import'] = { ...suggested, files: [{ path: 'crew.toml', text: '# Ours.\n\n# about crew\n' }] }
  await press(page, 'Write 2 pieces into the draft')
  const asked = { document: 'openapi: 3.1.0', application: 'crew', base: '/v1', files }
  expect(written('POST', '/api/v1/texts/import')).toEqual([
    asked,
    { ...asked, write: { only: ['new', 'gone'], without: ['route GET /crews/{crew}'] } },
  ])
  expect(useDraft().files.value[0]!.text).toBe('# Ours.\n\n# about crew\n')
  expect(page.text()).toContain('Written into crew.toml')
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
