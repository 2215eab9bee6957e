import { flushPromises } from '@vue/test-utils'
import { ElSelect } from 'element-plus'
import type { VNode } from 'vue'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import BlankAnswer from '../components/BlankAnswer.vue'
import BulkLoad from '../components/BulkLoad.vue'
import DraftErrors from '../components/DraftErrors.vue'
import ConfersPanel from '../components/ConfersPanel.vue'
import NamedPanel from '../components/NamedPanel.vue'
import PropertyPanel from '../components/PropertyPanel.vue'
import RoutesPanel from '../components/RoutesPanel.vue'
import RulesPanel from '../components/RulesPanel.vue'
import TenantRoles from '../components/TenantRoles.vue'
import TypesForm from '../components/TypesForm.vue'
import { useDraft } from '../composables/useDraft'
import { type Sent, button, choose, confirm, open, press, service, submit, takeAway } from '../tests/service'
import GivePage from './GivePage.vue'
import ConnectPage from './ConnectPage.vue'
import RegisterPage from './RegisterPage.vue'
import RolePage from './RolePage.vue'
import ReviewPage from './ReviewPage.vue'
import RolloutPage from './RolloutPage.vue'

/** What pages send, beside a service that answers from a table and refuses everything else. */
let sent: Sent[] = []
let written: (method: string, path: string) => unknown[]
let answers: Record<string, unknown> = {}

const role = (key: string, more = {}) => ({
  key,
  name: key,
  description: '',
  includes: [],
  'held-by': ['user'],
  grantable: true,
  values: [],
  permissions: [],
  except: [],
  clauses: [],
  ...more,
})
const rule = (key: string, effect: string, when: string) => ({
  key,
  effect,
  permissions: ['manifest:release'],
  when,
  'for-anyone': false,
  'across-tenants': false,
})
const type = {
  key: 'manifest',
  name: 'Manifest',
  application: 'customs',
  within: ['voyage'],
  actions: [{ key: 'view', name: 'view', description: 'Read it' }],
  attributes: [],
  relations: [],
}
const model = {
  applications: [{ key: 'customs', name: 'Customs desk', description: '' }],
  types: [type],
  roles: [role('deckhand'), role('line-agent', { values: [{ key: 'line', kind: 'text' }] }), role('owner', { grantable: false })],
  rules: [rule('open-house', 'allow', 'resource.notice'), rule('held-cargo', 'deny', 'resource.held')],
  confers: [],
  separations: [],
  'tenant-clauses': [],
  others: [],
  groups: [],
}
const standing = (more = {}) => ({ findings: [], fits: true, changes: [], unfit: [], ...more })
const draft = { id: 'D-1', title: 'Wider', base: 1, authors: ['k-1'], digest: 'a', 'created-at': '', 'saved-at': '' }
const files = [{ path: 'roles.toml', text: '' }]

beforeEach(() => {
  localStorage.clear()
  answers = {
    'GET /api/v1/model': model,
    'GET /api/v1/status': { revision: { number: 1 }, position: 7, entities: 2, grants: 1 },
    'GET /api/v1/tenant-roles': { items: [] },
    'GET /api/v1/drafts': [draft],
    'GET /api/v1/rehearsals': [],
    'GET /api/v1/drafts/D-1': { draft, files, standing: standing() },
    'PUT /api/v1/drafts/D-1/presence': { others: [], digest: 'a' },
    'POST /api/v1/texts/check': { standing: standing(), outline: [], model },
    'POST /api/v1/texts/edit': { files: [{ path: 'roles.toml', text: 'changed' }] },
  }
  ;({ sent, written } = service(answers))
})
afterEach(() => {
  useDraft().leave()
  vi.unstubAllGlobals()
})

describe('Give', () => {
  const holding = (id: string, more = {}) => ({
    grant: { id, role: 'deckhand', to: 'user:a', at: 'everywhere' },
    standing: 'counts',
    ...more,
  })

  it('gives a role with its values and dates, and shows no role that may not be given', async () => {
    answers['GET /api/v1/holdings'] = { items: [], total: 0, from: ['everywhere'] }
    answers['POST /api/v1/grants'] = { position: 'e.8', changed: [{}] }
    const page = await open(GivePage, '/give?at=vessel:kestrel')
    const roles = page.findAllComponents(ElSelect).find((one) => one.props('name') === 'role')!
    const options = (roles.vm.$slots.default?.() ?? []).flatMap((one) => (Array.isArray(one.children) ? one.children : [one]) as VNode[])
    expect(options.flatMap((one) => one.props?.value ?? [])).toEqual(['deckhand', 'line-agent'])
    expect(page.text()).toContain('Nothing arrives here by a grant')
    await choose(page, 'role', ['line-agent'])
    await choose(page, 'to', ['user:ola'])
    expect(button(page, 'Give it').attributes('disabled')).toBeDefined()
    await page.find('input[placeholder="NL, HF"]').setValue('NL, HF')
    await choose(page, 'until', '2027-01-01T00:00:00Z')
    await submit(page, 'form[aria-labelledby=give]')
    expect(written('POST', '/api/v1/grants')).toEqual([
      { role: 'line-agent', to: 'user:ola', at: 'vessel:kestrel', values: { line: ['NL', 'HF'] }, until: '2027-01-01T00:00:00Z' },
    ])
    expect(page.text()).toContain('Given, and in force.')
  })

  it('gives many as one batch, told before it is written', async () => {
    answers['GET /api/v1/holdings'] = { items: [], total: 0, from: ['everywhere'] }
    const grant = (to: string) => ({ grant: { role: 'deckhand', to, at: 'everywhere' } })
    answers['POST /api/v1/register'] = { position: 'e.8', changed: [grant('user:b')] }
    const page = await open(GivePage, '/give')
    await choose(page, 'role', ['deckhand'])
    await choose(page, 'to', ['user:a', 'user:b'])
    await submit(page, 'form[aria-labelledby=give]')
    expect(page.text()).toContain('1 grant would be new; nothing is written yet')
    expect(page.text()).toContain('they hold it already')
    await press(page, 'Give all of them')
    const lines = [grant('user:a'), grant('user:b')].map((one) => JSON.stringify(one)).join('\n')
    const loads = sent.filter((one) => one.path.startsWith('/api/v1/register')).map((one) => [one.path, one.body])
    expect(loads).toEqual([
      ['/api/v1/register?check=true', lines],
      ['/api/v1/register?check=false&at=7', lines],
    ])
    expect(page.text()).toContain('1 grant given, and in force.')
  })

  it('ends a grant only when that is answered', async () => {
    answers['GET /api/v1/holdings'] = {
      items: [holding('g-1'), holding('g-2', { standing: 'idle', why: 'the role is gone' })],
      total: 2,
      from: ['everywhere'],
    }
    answers['DELETE /api/v1/grants/g-1'] = { position: 'e.8', changed: [{}] }
    const page = await open(GivePage, '/give')
    expect(page.text()).toContain('gives nothing: the role is gone')
    await press(page, 'End')
    expect(written('DELETE', '/api/v1/grants')).toHaveLength(0)
    await takeAway(page, 'End g-1: deckhand of user:a')
    expect(sent.filter((one) => one.method === 'DELETE').map((one) => one.path)).toEqual(['/api/v1/grants/g-1'])
  })
})

describe('Connect', () => {
  const key = {
    id: 'k-1',
    application: null,
    name: 'night',
    detail: 'reason',
    endpoints: [],
    types: [],
    rights: [{ role: 'reader', at: 'everywhere' }],
    'created-at': '',
  }

  it('makes a key, shows its text once, and lets it go', async () => {
    answers['GET /api/v1/keys'] = [key]
    answers['POST /api/v1/keys'] = { text: 'ostrog.k-2.secret', key: { ...key, id: 'k-2' } }
    const page = await open(ConnectPage, '/connect')
    expect(page.text()).toContain('operator: reader')
    await page.find('input[name=name]').setValue(' desk ')
    await page.find('input[name=rights]').setValue('reader, grant-editor@tenant:north')
    await submit(page, 'form')
    expect(written('POST', '/api/v1/keys')).toEqual([
      {
        name: 'desk',
        detail: 'reason',
        rights: [
          { role: 'reader', at: 'everywhere' },
          { role: 'grant-editor', at: 'tenant:north' },
        ],
      },
    ])
    expect(page.find('.secret').text()).toBe('ostrog.k-2.secret')
    await press(page, 'It is kept')
    expect(page.text()).not.toContain('ostrog.k-2.secret')
  })
})

const review = { draft: 'D-1', digest: 'd', needed: 0, approvals: 0, editors: ['a'], reviews: [], comments: [], blocked: [], bases: {} }
const revision = { number: 2, title: 'Wider', author: 'a', digest: '', 'created-at': '', approved: true }
const shift = { gaining: 0, losing: 0, lines: [], subjects: 0, permissions: [], asked: 0, unexamined: [] }

describe('A review', () => {
  const opened = async (more: object, of: object = {}) => {
    answers['GET /api/v1/drafts/D-1'] = { draft, files, standing: standing(more) }
    answers['GET /api/v1/drafts/D-1/review'] = { ...review, 'to-accept': [], ...of }
    answers['POST /api/v1/rollouts'] = { revision, live: { quay: 2 }, words: '', position: 'e.9', shift }
    const page = await open(ReviewPage, '/rollout/review/D-1')
    await flushPromises()
    return page
  }

  it('puts a draft live only when that is answered, and says that it was never rehearsed', async () => {
    const page = await opened({ changes: [{ about: 'role', key: 'deckhand', words: 'gives more', effect: 'wider' }] })
    expect(page.text()).toContain('gives more')
    await press(page, 'Put live')
    expect(written('POST', '/api/v1/rollouts')).toHaveLength(0)
    expect(page.text()).toContain('It was not rehearsed as it is now')
    await confirm(page, 'Put it live now, for all')
    expect(written('POST', '/api/v1/rollouts')).toEqual([{ what: 'D-1', for: 'all', 'accept-unfit': false }])
    expect(page.text()).toContain('D-1 is revision 2, and live')
  })

  it.each([
    ['has errors', { findings: [{ at: 'a:1:1', severity: 'error', message: 'unknown role', path: 'a', start: 0, end: 1 }] }],
    ['does not fit what is live', { fits: false }],
    ['leaves facts that do not fit', { unfit: ['grant g-1: the role is gone'] }],
  ])('does not put one live that %s', async (_, more) => {
    const page = await opened(more)
    expect(button(page, 'Put live').attributes('disabled')).toBeDefined()
    if (!('unfit' in more)) return
    await page.find('input[name=accepted]').setValue(true)
    expect(button(page, 'Put live').attributes('disabled')).toBeUndefined()
  })

  it('is approved once everything has a note, of exactly what was read', async () => {
    const items = [
      { id: 'g1', kind: 'gain', words: 'user:ola gains a', first: 'a service', subjects: ['user:ola'] },
      { id: 'c1', kind: 'check', words: 'case "x": taken out' },
    ]
    answers['POST /api/v1/reviews/D-1/approval'] = { approvals: 1, needed: 1, revision: 3 }
    const page = await opened({}, { needed: 1, report: 7, found: 'all of it holds', 'to-accept': items })
    expect(page.text()).toContain('a service: user:ola gains a')
    expect(button(page, 'Approve').attributes('disabled')).toBeDefined()
    await page.find('input[name=note-g1]').setValue('as agreed')
    expect(button(page, 'Approve').attributes('disabled')).toBeDefined()
    await page.find('input[name=note-c1]').setValue('it was wrong')
    await press(page, 'Approve')
    await confirm(page, 'Approve it')
    expect(written('POST', '/api/v1/reviews/D-1/approval')).toEqual([
      { digest: 'd', report: 7, accepts: { g1: 'as agreed', c1: 'it was wrong' } },
    ])
    expect(page.text()).toContain('D-1 is revision 3')
  })

  it('is not an editor’s to approve, and says so', async () => {
    const page = await opened({}, { needed: 1, 'not-you': 'You count among its editors (a).' })
    expect(button(page, 'Approve').attributes('disabled')).toBeDefined()
    expect(button(page, 'Return it').attributes('disabled')).toBeDefined()
    expect(page.text()).toContain('You count among its editors (a).')
  })
})

describe('Roll out', () => {
  it('tells who would gain and lose before it puts a revision live for one application, and goes back with a note', async () => {
    const row = { application: 'quay', revision: 1, title: 'First', since: '', by: 'a', urgent: false, back: null }
    answers['GET /api/v1/live'] = [row]
    answers['GET /api/v1/revisions'] = [revision, { ...revision, number: 1 }]
    answers['GET /api/v1/drafts'] = []
    answers['POST /api/v1/rollouts'] = { revision, live: { quay: 2 }, words: '1 gains, 0 lose', position: 'e.9', shift }
    const page = await open(RolloutPage, '/rollout')
    await press(page, 'Roll out 2')
    expect(written('POST', '/api/v1/rollouts')).toEqual([{ what: '2', for: 'quay', check: true }])
    answers['GET /api/v1/live'] = [{ ...row, revision: 2, back: 1 }]
    await confirm(page, 'Put it live now')
    expect(written('POST', '/api/v1/rollouts')[1]).toEqual({ what: '2', for: 'quay', 'accept-unfit': false })
    expect(page.text()).toContain('Revision 2 is live for quay: 1 gains, 0 lose')
    answers['POST /api/v1/rollbacks'] = { revision, live: { quay: 1 }, words: '', position: 'e.10', shift }
    await press(page, 'Roll back to 1')
    const note = page
      .findAllComponents({ name: 'ElInput' })
      .filter((one) => one.props('name') === 'note' || one.attributes('name') === 'note')
    note.forEach((one) => one.vm.$emit('update:modelValue', 'too wide'))
    await flushPromises()
    await confirm(page, 'Roll back now')
    expect(written('POST', '/api/v1/rollbacks')).toEqual([{ for: 'quay', note: 'too wide' }])
  })
})

describe('Load', () => {
  const line = '{"entity":"user:a","attributes":{"rank":5}}'

  it('writes only what was compared, onto the position it was compared with', async () => {
    answers['POST /api/v1/register'] = { position: 'e.8', changed: [JSON.parse(line)] }
    answers['GET /api/v1/entities/user%3Aa'] = { entity: { entity: 'user:a', attributes: { rank: 3 } } }
    const page = await open(BulkLoad, '/register/load')
    await page.find('textarea').setValue(line)
    await submit(page, 'form')
    expect(page.text()).toContain('rank 3 → 5')
    // Another text than the one that was compared is not written.
    await page.find('textarea').setValue(`${line}\n${line}`)
    expect(button(page, 'Write them')).toBeUndefined()
    await page.find('textarea').setValue(line)
    await press(page, 'Write them')
    const loads = sent.filter((one) => one.path.startsWith('/api/v1/register'))
    expect(loads.map((one) => [one.path, one.body])).toEqual([
      ['/api/v1/register?check=true', line],
      ['/api/v1/register?check=false&at=7', line],
    ])
    expect(page.text()).toContain('1 fact written')
  })

  it('refuses more lines than one load takes, and says what does take them', async () => {
    const page = await open(BulkLoad, '/register/load')
    await page.find('textarea').setValue(`${line}\n`.repeat(10_001))
    expect(button(page, 'Compare with the register').attributes('disabled')).toBeDefined()
    expect(page.text()).toContain('ostrog register load FILE')
  })
})

describe('Register', () => {
  it('searches on the server, page by page, with the search in the address', async () => {
    answers['GET /api/v1/entities'] = {
      items: [
        { entity: 'group:a', 'member-count': 3 },
        { entity: 'user:a', attributes: { rank: 3 } },
      ],
      next: 'user:a',
    }
    const page = await open(RegisterPage, '/register?containing=u&type=user&attribute=rank=3')
    expect(page.text()).toContain('3 members')
    expect(page.text()).toContain('rank 3')
    await press(page, 'Next page')
    const searches = sent.filter((one) => one.path.startsWith('/api/v1/entities')).map((one) => one.path)
    expect(searches).toEqual([
      '/api/v1/entities?prefix=user%3A&limit=50&containing=u&attribute=rank%3D3&brief=true',
      '/api/v1/entities?prefix=user%3A&limit=50&containing=u&attribute=rank%3D3&after=user%3Aa&brief=true',
    ])
  })
})

describe('forms of a draft', () => {
  it('write an action and what a type lies within', async () => {
    await useDraft().open('D-1')
    await flushPromises()
    const page = await open(TypesForm, '/describe')
    await page.find('input[name=new-action]').setValue('Hold It')
    expect(button(page, 'Add the action').attributes('disabled')).toBeDefined()
    await page.find('input[name=new-action]').setValue('hold')
    await page.find('input[name=action-words]').setValue('Put it on hold')
    await page
      .findAll('form')
      .find((form) => form.text().includes('New action'))!
      .trigger('submit')
    await flushPromises()
    expect(written('POST', '/api/v1/texts/edit')).toEqual([
      { files, edits: [{ path: ['resource', 'manifest', 'actions', 'hold'], value: 'Put it on hold' }] },
    ])
    expect(useDraft().files.value[0]?.text).toBe('changed')
  })

  it('show denies first, read a rule on something real, and write it', async () => {
    await useDraft().open('D-1')
    answers['POST /api/v1/ask'] = {
      explanation: {
        rules: [{ key: 'held-cargo', effect: 'deny', value: 'undetermined', reaches: true, conditions: [] }],
        way: [],
        arrivals: [],
      },
    }
    const page = await open(RulesPanel, '/refine/rules', { model })
    expect(page.findAll('tbody .name').map((one) => one.text())).toEqual(['held-cargo', 'open-house'])
    const fields = page.findAll('section[aria-labelledby=reading] .field input')
    await fields[0]!.setValue('user:a')
    await fields[1]!.setValue('manifest:m-1')
    await submit(page, 'section[aria-labelledby=reading] form')
    expect(page.text()).toContain('Its condition is undetermined')
    expect(written('POST', '/api/v1/ask')).toMatchObject([{ draft: 'D-1', subject: 'user:a', permission: 'manifest:release' }])
    await page.find('form.fields textarea').setValue('resource.held or resource.lost')
    await submit(page, 'form.fields')
    expect(written('POST', '/api/v1/texts/edit')).toMatchObject([
      {
        edits: [
          { path: ['rule', 'held-cargo', 'effect'], value: 'deny' },
          { value: ['manifest:release'] },
          { value: 'resource.held or resource.lost' },
          { path: ['rule', 'held-cargo', 'message'] },
        ],
      },
    ])
  })
})

it('asks on from what a blank found, page by page, with the classes and the count beside', async () => {
  answers['POST /api/v1/holders'] = {
    items: [{ who: 'user:pia', reason: 'role:inspector', through: 'every user' }],
    whole: true,
    next: 'user:pia',
    total: 2_000,
  }
  const question = {
    subject: '',
    permission: 'manifest:release',
    resource: 'manifest:m-1',
    context: {},
    ofSubject: {},
    ofResource: {},
    now: '',
    suppose: [],
  }
  const page = await open(BlankAnswer, '/try', { question, blank: 'holders' })
  expect(page.find('h2').text()).toBe('Who may manifest:release on manifest:m-1?')
  expect(page.findAll('a').map((one) => one.attributes('href'))).toEqual([
    '/try?subject=user:pia&permission=manifest:release&resource=manifest:m-1',
  ])
  expect(page.text()).toContain('2,000 subjects may in all.')
  expect(page.text()).toContain('and there are more')
  await press(page, 'More')
  expect(written('POST', '/api/v1/holders')).toMatchObject([
    { beside: { limit: 100 } },
    { beside: { count: true } },
    { beside: { limit: 100, after: 'user:pia' } },
  ])
})

describe('Forms of a draft', () => {
  const edits = () => written('POST', '/api/v1/texts/edit').flatMap((body) => (body as { edits: unknown[] }).edits)
  beforeEach(async () => {
    await useDraft().open('D-1')
    await flushPromises()
    sent.length = 0
  })

  it('changes one role in what differs, and its clauses by their place', async () => {
    const clauses = [{ permissions: ['manifest:release'], when: 'resource.held' }]
    const one = {
      ...model,
      roles: [role('deckhand'), role('inspector', { includes: ['deckhand'], clauses })],
      separations: [{ key: 's', name: '', roles: ['inspector', 'deckhand'] }],
    }
    answers['POST /api/v1/texts/check'] = { standing: standing(), outline: [], model: one }
    answers['GET /api/v1/roles/inspector/reached'] = { subjects: 2, grants: 1, whole: true }
    await useDraft().open('D-1')
    const page = await open(RolePage, '/roles/of/inspector')
    expect(page.text()).toContain('Held by users.')
    expect(page.text()).toContain('Nobody holds two of inspector, deckhand where both count.')
    expect(page.text().replace(/\s+/g, ' ')).toContain('2 subjects by 1 grant of it')
    expect(button(page, 'Write it into the draft').attributes('disabled')).toBeDefined()
    await choose(page, 'given-to', 'members')
    await page.find('textarea[name=when]').setValue('resource.size > 2')
    await submit(page, 'form[aria-labelledby=change-role]')
    await takeAway(page, 'Take out clause 1')
    await choose(page, 'clause-permissions', ['manifest:view', 'manifest:amend'])
    await page.find('textarea[name=clause-when]').setValue('resource.size < 9')
    await submit(page, 'form[aria-label="New clause"]')
    expect(edits()).toEqual([
      { path: ['role', 'inspector', 'given-to'], value: 'members' },
      { path: ['role', 'inspector', 'when'], value: 'resource.size > 2' },
      { path: ['role', 'inspector', 'clause', '#0'] },
      {
        path: ['role', 'inspector', 'clause', '#new'],
        value: { permissions: ['manifest:view', 'manifest:amend'], when: 'resource.size < 9' },
      },
    ])
  })

  it('tells what is wrong on pages that do not show the text, and takes it back', async () => {
    const finding = (n: number) => ({
      at: `roles.toml:${n}:1`,
      severity: 'error',
      code: 'x',
      message: `unknown attribute a${n}`,
      start: 0,
      end: 1,
      path: 'roles.toml',
    })
    answers['POST /api/v1/texts/check'] = { standing: standing({ findings: [1, 2, 3, 4, 5].map(finding) }), outline: [], model: null }
    await useDraft().open('D-1')
    await useDraft().edit([{ path: ['role', 'deckhand', 'when'], value: 'a2' }])
    await flushPromises()
    expect((await open(DraftErrors, '/describe/text')).text()).toBe('')
    const strip = await open(DraftErrors, '/roles/of/deckhand')
    expect(strip.text()).toContain('unknown attribute a3')
    expect(strip.text()).not.toContain('a4')
    expect(strip.text()).toContain('2 more errors')
    expect(useDraft().files.value[0]?.text).toBe('changed')
    await press(strip, 'Take the last change back')
    expect(useDraft().files.value[0]?.text).toBe('')
    expect(button(strip, 'Take the last change back')).toBeUndefined()
  })

  it('writes an attribute with all it says, and takes one out', async () => {
    const properties = [
      { key: 'state', kind: 'text', many: false, from: 'either', values: ['filed', 'held'], default: 'filed', 'across-tenants': false },
    ]
    const page = await open(PropertyPanel, '/', {
      what: 'attribute',
      root: 'resource',
      path: ['resource', 'manifest', 'attributes'],
      properties,
      usual: 'either',
    })
    expect(page.text()).toContain('one of filed, held; filed where nothing states it')
    await page.find('[aria-label="Change state"]').trigger('click')
    await page.find('input[placeholder=any]').setValue('filed, held, released')
    await submit(page, 'form')
    await takeAway(page, 'Take out state')
    expect(edits()).toEqual([
      {
        path: ['resource', 'manifest', 'attributes', 'state'],
        value: { type: 'text', values: ['filed', 'held', 'released'], default: 'filed' },
      },
      { path: ['resource', 'manifest', 'attributes', 'state'] },
    ])
  })

  it('writes conditions with names, and takes them out', async () => {
    const page = await open(NamedPanel, '/', { model: { ...model, conditions: [{ key: 'day-watch', when: 'hour(now) > 6' }] } })
    expect(page.text()).toContain("meets('day-watch')")
    await button(page, 'Change').trigger('click')
    expect(page.text()).toContain('Change day-watch')
    await page.find('textarea[name=named]').setValue('hour(now) > 7')
    await submit(page, 'form[aria-labelledby=new-named]')
    await takeAway(page, 'Take out day-watch')
    expect(edits()).toEqual([{ path: ['condition', 'day-watch', 'when'], value: 'hour(now) > 7' }, { path: ['condition', 'day-watch'] }])
  })

  it('adds routes about one that is named, a new one, any one or nothing, and affordances', async () => {
    const routes = [
      { application: 'customs', method: 'GET', path: '/tides', needs: [], of: 'everybody', gives_way_to: [] },
      { application: 'customs', method: 'GET', path: '/old', needs: [], of: 'nobody', refused: true, gives_way_to: [] },
      { application: 'customs', method: 'GET', path: '/m/{m}', needs: ['manifest:view'], of: 'manifest:{m}', gives_way_to: [] },
    ]
    const affordances = [{ application: 'customs', key: 'menu', name: 'Menu', visible: 'manifest:view', enabled: 'manifest:view' }]
    const page = await open(RoutesPanel, '/', { model: { ...model, routes, affordances } })
    expect(page.text()).toContain('open to everybody')
    expect(page.text()).toContain('refused, whoever asks')
    const last = (many = 1) => edits().slice(-many)
    const fill = async (about: string) => {
      await choose(page, 'route-of', 'customs')
      await choose(page, 'about', about)
      await page.find('input[name=path]').setValue('/manifests/{id}')
      if (!['open', 'refused'].includes(about)) await choose(page, 'needs', ['manifest:view'])
    }
    const value = { application: 'customs', method: 'GET', path: '/manifests/{id}' }
    await fill('named')
    expect(button(page, 'Add the route').attributes('disabled')).toBeDefined()
    await page.find('input[name=of-what]').setValue('manifest:{id}')
    await submit(page, 'form[aria-labelledby=new-route]')
    const needs = ['manifest:view']
    expect(last()).toEqual([{ path: ['route', '#new'], value: { ...value, needs, resource: 'manifest:{id}' } }])
    await fill('any')
    await submit(page, 'form[aria-labelledby=new-route]')
    expect(last()).toEqual([{ path: ['route', '#new'], value: { ...value, needs, resource: { any: 'manifest' } } }])
    await fill('any')
    await page.find('input[name=within-what]').setValue('voyage:{v}')
    await submit(page, 'form[aria-labelledby=new-route]')
    expect(last()).toEqual([{ path: ['route', '#new'], value: { ...value, needs, resource: { any: 'manifest', within: 'voyage:{v}' } } }])
    await fill('new')
    await page.find('input[name=within-what]').setValue('voyage:{v}')
    await submit(page, 'form[aria-labelledby=new-route]')
    expect(last()).toEqual([{ path: ['route', '#new'], value: { ...value, needs, resource: { new: 'manifest', within: 'voyage:{v}' } } }])
    await fill('open')
    await submit(page, 'form[aria-labelledby=new-route]')
    expect(last()).toEqual([{ path: ['route', '#new'], value: { ...value, open: true } }])
    await fill('refused')
    await submit(page, 'form[aria-labelledby=new-route]')
    expect(last()).toEqual([{ path: ['route', '#new'], value: { ...value, refuse: true } }])

    await choose(page, 'affordance-of', 'customs')
    await page.find('input[name=affordance]').setValue('view-button')
    await choose(page, 'visible', 'manifest:view')
    await choose(page, 'under', 'menu')
    await submit(page, 'form[aria-labelledby=new-affordance]')
    expect(last(3)).toEqual([
      { path: ['affordance', 'view-button', 'application'], value: 'customs' },
      { path: ['affordance', 'view-button', 'visible'], value: 'manifest:view' },
      { path: ['affordance', 'view-button', 'under'], value: 'menu' },
    ])
  })

  it('takes a conferral out by its place among those of its type, and adds one by what is held', async () => {
    const confer = (kind: string, role: string) => ({ kind, role, path: 'owner', sentence: `A ${kind} makes its owner its ${role}.` })
    const confers = [confer('manifest', 'owner'), confer('vessel', 'owner'), confer('manifest', 'reader')]
    const page = await open(ConfersPanel, '/', {
      model: { ...model, confers, separations: [{ key: 'apart', name: '', roles: ['a', 'b'] }] },
    })
    await takeAway(page, 'Take out: A manifest makes its owner its reader.')
    await takeAway(page, 'Take out apart')
    await choose(page, 'of', 'manifest')
    await choose(page, 'holds', 'deckhand')
    await page.find('form[aria-labelledby=new-confer] .field input').setValue('within')
    await choose(page, 'makes', 'owner')
    await submit(page, 'form[aria-labelledby=new-confer]')
    expect(edits()).toEqual([
      { path: ['resource', 'manifest', 'confer', '#1'] },
      { path: ['separation', 'apart'] },
      { path: ['resource', 'manifest', 'confer', '#new'], value: { role: 'owner', to: { holds: 'deckhand', at: 'within' } } },
    ])
  })

  it('shows what tenants may make roles of, under which condition, and changes it', async () => {
    const clauses = [{ permissions: ['manifest:view'], when: 'not resource.held' }, { permissions: ['voyage:view'] }]
    answers['POST /api/v1/texts/check'] = { standing: standing(), outline: [], model: { ...model, 'tenant-clauses': clauses } }
    answers['GET /api/v1/entities'] = { items: [] }
    await useDraft().open('D-1')
    const page = await open(TenantRoles, '/give/tenant-roles', { model })
    expect(page.text()).toContain('manifest:view, only when not resource.held')
    await takeAway(page, 'Take out clause 2')
    await choose(page, 'clause-permissions', ['berth:view'])
    await submit(page, 'form[aria-label="New clause"]')
    expect(edits()).toEqual([
      { path: ['tenant-roles', 'clause', '#1'] },
      { path: ['tenant-roles', 'clause', '#new'], value: { permissions: ['berth:view'] } },
    ])
  })
})

describe('A review', () => {
  it('shows the draft that is being written here, and what of it is not saved', async () => {
    answers['GET /api/v1/drafts/D-1/review'] = { ...review, 'to-accept': [] }
    await useDraft().open('D-1')
    const page = await open(ReviewPage, '/rollout/review/D-1')
    await flushPromises()
    expect(page.text()).toContain('D-1: Wider')
    expect(page.text()).not.toContain('not saved yet')
    await useDraft().edit([{ path: ['role', 'deckhand', 'name'], value: 'Deckhand' }])
    await flushPromises()
    expect(page.text()).toContain('What is not saved yet is not in it.')
    answers['POST /api/v1/drafts'] = {
      draft: { ...draft, digest: 'b' },
      files: [{ path: 'roles.toml', text: 'changed' }],
      standing: standing(),
    }
    const reads = sent.filter((one) => one.method === 'GET' && one.path === '/api/v1/drafts/D-1').length
    await press(page, 'Save it')
    expect(page.text()).not.toContain('not saved yet')
    expect(sent.filter((one) => one.method === 'GET' && one.path === '/api/v1/drafts/D-1').length, 'it is read anew').toBe(reads + 1)
  })
})
