import { beforeEach, describe, expect, it, vi } from 'vitest'
import { flushPromises } from '@vue/test-utils'
import { choose, confirm, open, press, service, submit } from '../tests/service'
import IssuersPanel from '../components/IssuersPanel.vue'
import { useDraft } from '../composables/useDraft'
import ConnectPage from './ConnectPage.vue'
import TryPage from './TryPage.vue'

const model = {
  applications: [
    { key: 'customs', name: 'Customs' },
    { key: 'quay', name: 'Quay' },
  ],
  types: [{ key: 'manifest', name: 'Manifest', actions: [{ key: 'view', name: 'See it' }] }],
  others: [{ key: 'context', attributes: [{ key: 'ip', kind: 'address', many: false }], relations: [] }],
  roles: [],
  groups: [],
  routes: [
    {
      application: 'customs',
      method: 'GET',
      path: '/manifests/{manifest}',
      needs: ['manifest:view'],
      of: 'manifest:{manifest}',
      refused: false,
      gives_way_to: ['GET /manifests/new'],
    },
  ],
  affordances: [],
  issuers: [
    {
      key: 'port-id',
      name: 'The port',
      applications: ['customs'],
      signed_in: false,
      claims: [
        { claim: 'sub', about: 'subject', words: 'names user:…' },
        { claim: 'org', about: 'tenants', words: 'tenant:northline' },
        { claim: 'groups', about: 'groups', words: '"Night" is group:night' },
      ],
    },
  ],
}
const key = { kid: 'k', place: 1, algorithms: ['ES256'], skipped: null }
const issuer = {
  key: 'port-id',
  url: 'https://id.example',
  audiences: { customs: ['c'] },
  'in-charter': true,
  keys: [key],
  'keys-since': '2026-11-28T05:00:00Z',
  refused: { at: '2026-11-28T05:01:00Z', why: 'it counts no longer (exp)' },
}
let answers: Record<string, unknown>
let written: ReturnType<typeof service>['written']
beforeEach(() => {
  vi.unstubAllGlobals()
  answers = { 'GET /api/v1/model': model, 'GET /api/v1/drafts': [], 'GET /api/v1/keys': [] }
  written = service(answers).written
})

describe('Issuers', () => {
  it('are set up, tried and ended, and one that the charter alone knows is told', async () => {
    answers['GET /api/v1/issuers'] = []
    answers['POST /api/v1/issuers'] = issuer
    const page = await open(ConnectPage, '/connect/issuers')
    expect(page.text()).toContain('it is not set up: they are refused')
    expect(page.text()).toContain('"Night" is group:night')
    await choose(page, 'issuer', 'port-id')
    await page.find('input[name=url]').setValue(' https://id.example ')
    expect(page.find('input[name=audience-quay]').exists(), 'its tokens are for the customs desk alone').toBe(false)
    await page.find('input[name=audience-customs]').setValue('c, d')
    answers['GET /api/v1/issuers'] = [issuer]
    await submit(page, 'form[aria-labelledby=new-issuer]')
    const asked = { key: 'port-id', url: 'https://id.example', audiences: { customs: ['c', 'd'] }, private: false, 'id-tokens': false }
    expect(written('POST', '/api/v1/issuers')).toEqual([asked])
    expect(page.text()).toContain('1 key, had')
    expect(page.text()).toContain('it counts no longer (exp)')

    answers['POST /api/v1/issuers/port-id/attempt'] = {
      steps: [
        { what: 'fetch them', ok: true, words: '99 bytes' },
        { what: 'read them', ok: false, words: 'no JSON' },
      ],
      keys: [{ ...key, algorithms: [], skipped: 'use: enc' }],
    }
    await press(page, 'Try')
    expect(page.text()).toContain('fetch them: 99 bytes')
    expect(page.text()).toContain('read them: no; no JSON')
    expect(page.text()).toContain('use: enc')
    answers['DELETE /api/v1/issuers/port-id'] = issuer
    await press(page, 'End')
    expect(written('DELETE', '/api/v1/issuers')).toHaveLength(0)
    await confirm(page, 'End it now')
    expect(written('DELETE', '/api/v1/issuers')).toHaveLength(1)
  })
})

describe('What tokens mean', () => {
  const path = (...rest: string[]) => ['issuer', ...rest]
  it.each([
    [
      'a group of a new issuer',
      { meant: 'town-id', 'meant-for': ['quay'], vouches: 'groups', group: 'night' },
      { claim: 'roles', says: 'Night' },
      [
        { path: path('town-id', 'applications'), value: ['quay'] },
        { path: path('town-id', 'groups', '#new'), value: { claim: 'roles', map: { Night: 'night' } } },
      ],
    ],
    [
      'tenants',
      { meant: 'port-id', vouches: 'tenants' },
      { claim: 'org', only: 'a, b' },
      [{ path: path('port-id', 'tenants'), value: { claim: 'org', only: ['a', 'b'] } }],
    ],
    ['a field', { meant: 'port-id', vouches: 'context.ip' }, { claim: 'ip' }, [{ path: path('port-id', 'context', 'ip'), value: 'ip' }]],
    ['who it is', { meant: 'port-id', vouches: 'subject' }, { claim: 'uid' }, [{ path: path('port-id', 'subject'), value: 'uid' }]],
  ])('is written claim by claim: %s', async (_, chosen, filled, edits) => {
    answers['GET /api/v1/issuers'] = [issuer]
    answers['GET /api/v1/drafts/D-1'] = {
      draft: { id: 'D-1', title: 'Meaning', base: 1, tag: 't' },
      files: [{ path: 'a.toml', text: '' }],
      standing: { findings: [], fits: true, changes: [], unfit: [] },
    }
    answers['POST /api/v1/texts/edit'] = { files: [{ path: 'a.toml', text: 'x' }] }
    await useDraft().open('D-1')
    const page = await open(IssuersPanel, '/', { model: { ...model, groups: ['night'] } })
    for (const [name, value] of Object.entries(chosen)) await choose(page, name, value)
    for (const [name, value] of Object.entries(filled)) await page.find(`input[name=${name}]`).setValue(value)
    await submit(page, 'form[aria-labelledby=meaning]')
    expect(written('POST', '/api/v1/texts/edit').map((one) => (one as { edits: unknown }).edits)).toEqual([edits])
    useDraft().leave()
  })
})

describe('Tokens', () => {
  const told = {
    header: { alg: 'ES256' },
    claims: { sub: 'rui', exp: 1795831624 },
    verified: true,
    words: 'a token of port-id',
    subject: 'user:rui',
    read: [{ claim: 'groups', about: 'group:night', outcome: 'counted', words: 'Night', register: 'not a member' }],
    gains: [{ permission: 'manifest:view', reason: 'role:inspector', resources: 7, first: ['manifest:a', 'manifest:b'] }],
    losses: [],
  }

  it('are read as they are copied, each claim beside the register, two side by side', async () => {
    answers['POST /api/v1/tokens/reading'] = told
    const page = await open(ConnectPage, '/connect/tokens')
    await page.find('textarea[name=token]').setValue('Authorization: Bearer a.b.c\n')
    await submit(page, 'form')
    expect(written('POST', '/api/v1/tokens/reading')).toEqual([{ token: 'a.b.c' }])
    for (const text of ['It names user:rui', 'not a member', 'manifest:a, manifest:b and 5 more', '2026-11-28T02:07:04Z'])
      expect(page.text()).toContain(text)
    await page.find('.el-switch input').setValue(true)
    expect(page.findAll('textarea[name=token]')).toHaveLength(2)
  })

  it('of somebody are supposed, with the claims that the charter reads', async () => {
    answers['POST /api/v1/tokens/reading'] = { ...told, verified: null, nobody: 'the claim "sub" names nobody', subject: null, read: [] }
    const page = await open(ConnectPage, '/connect/tokens')
    await page.findAll('input[type=radio]')[1]!.setValue(true)
    await page.find('input[placeholder="user:ines"]').setValue('user:rui')
    await flushPromises()
    const claims = page.find<HTMLTextAreaElement>('textarea[name=claims]')
    expect(JSON.parse(claims.element.value)).toEqual({ sub: 'rui', org: '', groups: [] })
    await claims.setValue('{"sub": ')
    await submit(page, 'form')
    expect(page.text()).toContain('The claims are no JSON object')
    await claims.setValue('{"groups": ["Night"]}')
    await submit(page, 'form')
    expect(written('POST', '/api/v1/tokens/reading')).toEqual([{ issuer: 'port-id', claims: { groups: ['Night'] } }])
    expect(page.text()).toContain('It names nobody here: the claim "sub" names nobody')
  })

  it('stand for the subject in Try, and in no address', async () => {
    answers['POST /api/v1/ask'] = {
      explanation: {
        allowed: true,
        reason: 'role:x',
        sentence: 's',
        way: [],
        arrivals: [],
        rules: [],
        ignored: [],
        'also-held': [],
        unregistered: [],
        excluded: [],
      },
      revision: 1,
    }
    const page = await open(TryPage, '/try')
    await page.find('#token').setValue('a.b.c')
    await page.find('input[placeholder="manifest:release"]').setValue('manifest:view')
    await submit(page, 'form.question')
    expect(written('POST', '/api/v1/ask')).toEqual([{ token: 'a.b.c', permission: 'manifest:view', context: {}, suppose: [] }])
    expect(page.text()).toContain('may the bearer of the token manifest:view')
    expect(page.html()).not.toContain('href="/try?')
    expect(JSON.stringify({ ...localStorage, ...sessionStorage })).not.toContain('a.b.c')
  })
})

describe('Routes', () => {
  beforeEach(() => {
    answers['GET /api/v1/asked'] = {
      applications: [],
      unknown: [],
      unmapped: [{ application: 'customs', method: 'GET', pattern: '/manifests/{manifest}/print', count: 3, last: '2026-11-28T05:00:00Z' }],
    }
  })

  it('are told with what they give way to, and a request is checked', async () => {
    answers['POST /api/v1/routes/check'] = {
      allowed: false,
      code: 'denied',
      words: 'no-role',
      subject: 'user:rui',
      route: 'GET /manifests/{manifest}',
      needs: [{ permission: 'manifest:view', about: 'manifest:a', allowed: false, reason: 'no-role' }],
    }
    const page = await open(ConnectPage, '/connect/routes')
    expect(page.text()).toContain('gives way to GET /manifests/new')
    await page.find('input[name=check-path]').setValue(' /manifests/a ')
    await page.find('input[placeholder="nobody signed in"]').setValue('user:rui')
    await submit(page, 'form[aria-labelledby=check]')
    const asked = { application: 'customs', method: 'GET', path: '/manifests/a', subject: 'user:rui' }
    expect(written('POST', '/api/v1/routes/check')).toEqual([asked])
    expect(page.text()).toContain('It is refused')
    await page.find('input[name=check-token]').setValue('a.b.c')
    await submit(page, 'form[aria-labelledby=check]')
    expect(written('POST', '/api/v1/routes/check')[1]).toEqual({ ...asked, subject: undefined, token: 'a.b.c' })
  })

  it('that are missing become one of a draft', async () => {
    answers['GET /api/v1/revisions/live'] = { number: 1, files: [{ path: 'a.toml', text: '' }] }
    answers['POST /api/v1/drafts'] = {
      draft: { id: 'D-1', title: 'A route', base: 1, tag: 't' },
      files: [{ path: 'a.toml', text: '' }],
      standing: { findings: [], fits: true, changes: [], unfit: [] },
    }
    const page = await open(ConnectPage, '/connect/routes')
    expect(page.text()).toContain('3 times')
    await press(page, 'Map it')
    expect(written('POST', '/api/v1/drafts')).toMatchObject([{ title: 'A route for GET /manifests/{manifest}/print' }])
    expect(page.find<HTMLInputElement>('input[name=path]').element.value).toBe('/manifests/{manifest}/print')
  })
})

describe('Keys of proxies', () => {
  it('say whose routes they ask about, and how a request is told', async () => {
    answers['POST /api/v1/keys'] = { text: 'ostrog.k-2.secret', key: { id: 'k-2', name: 'edge', rights: [], detail: 'reason' } }
    const page = await open(ConnectPage, '/connect')
    await page.find('input[name=name]').setValue('edge')
    await choose(page, 'application', 'a proxy')
    await page.find('input[name=proxied]').setValue('customs=customs.example, quay=quay.example')
    await choose(page, 'headers', 'forwarded')
    await choose(page, 'hops', 1)
    await choose(page, 'field', 'ip')
    await submit(page, 'form')
    const applications = [
      { application: 'customs', host: 'customs.example' },
      { application: 'quay', host: 'quay.example' },
    ]
    const proxy = { applications, headers: 'forwarded', 'trusted-hops': 1, 'address-as': 'ip' }
    expect(written('POST', '/api/v1/keys')).toEqual([{ name: 'edge', detail: 'reason', rights: [], proxy }])
  })
})
