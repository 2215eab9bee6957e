import { flushPromises } from '@vue/test-utils'
import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import { useCharter } from '../composables/useCharter'
import { useDraft } from '../composables/useDraft'
import ReviewPage from '../pages/ReviewPage.vue'
import RolloutPage from '../pages/RolloutPage.vue'
import { confirm, open, press, service, type Sent } from '../tests/service'
import CommandPalette from './CommandPalette.vue'
import DraftQuarrel from './DraftQuarrel.vue'

let answers: Record<string, unknown>
let sent: Sent[]
const draft = { id: 'D-1', title: 'Wider', base: 1, authors: ['k-1'], digest: 'a', 'created-at': '', 'saved-at': '' }
const standing = { findings: [], fits: true, changes: [], unfit: [] }
const files = (text: string) => [{ path: 'roles.toml', text }]

beforeEach(() => {
  answers = {
    'GET /api/v1/drafts/D-1': { draft, files: files('one\ntwo\nthree\n'), standing },
    'PUT /api/v1/drafts/D-1/presence': { others: [], digest: 'a' },
    'POST /api/v1/texts/check': { standing, outline: [], model: null },
    'GET /api/v1/status': { revision: { number: 1 }, position: 7 },
    'GET /api/v1/drafts': [draft],
    'GET /api/v1/revisions': [],
    'GET /api/v1/rehearsals': [],
    'GET /api/v1/discarded-drafts': [],
  }
  ;({ sent } = service(answers))
})
afterEach(() => {
  useDraft().leave()
  document.body.innerHTML = ''
  vi.unstubAllGlobals()
})

it('lays two texts side by side where they differ, before one is chosen', async () => {
  const own = useDraft()
  await own.open('D-1')
  own.write('roles.toml', 'one\nmine\nthree\n')
  own.other.value = { draft: { ...draft, digest: 'b' }, files: files('one\ntheirs\nthree\n') }
  const page = await open(DraftQuarrel, '/')
  expect(page.text()).toContain('Your text is still here')
  await press(page, 'Lay them side by side')
  const shown = (label: string) => [...document.querySelectorAll(`pre[aria-label=${label}]`)].map((one) => one.textContent)
  expect([shown('Mine'), shown('Theirs')]).toEqual([['mine\n'], ['theirs\n']])
  const theirs = [...document.querySelectorAll('button')].find((one) => one.textContent?.trim() === 'Take theirs')!
  theirs.click()
  await flushPromises()
  expect([own.files.value[0]?.text, own.other.value]).toEqual(['one\ntheirs\nthree\n', undefined])
})

const review = { needed: 0, approvals: 0, editors: ['a'], reviews: [], comments: [], 'to-accept': [], blocked: [], bases: {} }

it('discards a draft only when that is answered, and takes it back', async () => {
  answers['DELETE /api/v1/drafts/D-1'] = draft
  answers['GET /api/v1/drafts/D-1'] = { draft, files: files(''), standing }
  answers['GET /api/v1/drafts/D-1/review'] = review
  const page = await open(ReviewPage, '/rollout/review/D-1')
  await flushPromises()
  await press(page, 'Discard')
  expect(sent.some((one) => one.method === 'DELETE')).toBe(false)
  answers['GET /api/v1/discarded-drafts'] = [{ ...draft, 'discarded-at': '2026-11-27T08:00:00Z' }]
  answers['GET /api/v1/drafts'] = []
  await confirm(page, 'Discard it')
  expect(page.text()).toContain('For thirty days it can be taken back')
  const list = await open(RolloutPage, '/rollout')
  answers['POST /api/v1/discarded-drafts/D-1/restoration'] = { draft, files: files(''), standing }
  answers['GET /api/v1/discarded-drafts'] = []
  await list.find('[aria-label="Take back D-1"]').trigger('click')
  await flushPromises()
  expect(sent.some((one) => one.path === '/api/v1/discarded-drafts/D-1/restoration')).toBe(true)
  expect(list.find('[aria-label="Take back D-1"]').exists()).toBe(false)
})

it('finds pages, roles, rules, permissions and entities by a part of their name', async () => {
  answers['GET /api/v1/model'] = {
    roles: [{ key: 'inspector' }],
    rules: [{ key: 'held-cargo' }],
    types: [{ key: 'manifest', actions: [{ key: 'inspect' }] }],
  }
  answers['GET /api/v1/entities'] = { items: [{ entity: 'inspection:i-12' }] }
  await useCharter().read()
  const page = await open(CommandPalette, '/')
  window.dispatchEvent(new KeyboardEvent('keydown', { key: 'k', ctrlKey: true }))
  await flushPromises()
  const field = page.findComponent({ name: 'ElAutocomplete' })
  const suggest = (field.props() as { fetchSuggestions: (text: string) => Promise<{ value: string; what: string; to: unknown }[]> })
    .fetchSuggestions
  const found = await suggest('insp')
  expect(found.map((one) => `${one.what} ${one.value}`)).toEqual([
    'role inspector',
    'permission manifest:inspect',
    'entity inspection:i-12',
  ])
  expect((await suggest('give')).map((one) => one.what)).toContain('page')
  const go = vi.spyOn(page.vm.$router, 'push')
  field.vm.$emit('select', found[0])
  await flushPromises()
  expect(go).toHaveBeenCalledWith({ name: 'role', params: { role: 'inspector' } })
  window.dispatchEvent(new KeyboardEvent('keydown', { key: '?' }))
  await flushPromises()
  expect(document.body.textContent).toContain('ask from anywhere')
  page.unmount()
})
