import { flushPromises } from '@vue/test-utils'
import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import { recall } from '../support/keeping'
import { useDraft } from './useDraft'

interface Saved {
  digest: string
  files: { path: string; text: string }[]
}

/** A service that keeps one draft, and refuses a text that was made from another. */
let kept: Saved
let calls: { path: string; body: Record<string, unknown> }[]
/** What the text declares; nothing while it has errors. */
let declared: unknown = null

function answer(status: number, body: unknown) {
  return new Response(JSON.stringify(body), { status })
}
const shown = () => ({
  draft: { id: 'D-1', title: 'Wider', base: 1, authors: [], digest: kept.digest, 'created-at': '', 'saved-at': '' },
  files: kept.files,
  standing: standing(),
})
const standing = () => ({ findings: [], fits: true, changes: [], unfit: [] })

beforeEach(() => {
  vi.useFakeTimers()
  localStorage.clear()
  kept = { digest: 'a', files: [{ path: 'roles.toml', text: 'one' }] }
  calls = []
  vi.stubGlobal('fetch', async (path: string, options: RequestInit) => {
    const body = options.body ? (JSON.parse(String(options.body)) as Record<string, unknown>) : {}
    calls.push({ path, body })
    if (path === '/api/v1/texts/check') return answer(200, { standing: standing(), outline: [], model: declared })
    if (path === '/api/v1/texts/edit') return answer(200, { files: [{ path: 'roles.toml', text: 'edited' }] })
    if (path.endsWith('/presence')) return answer(200, { others: ['night desk'], digest: kept.digest })
    if (options.method === 'POST' && body.from !== kept.digest)
      return answer(412, { type: '', title: '', status: 412, detail: 'It was saved anew since.' })
    if (options.method === 'POST') kept = { digest: `${kept.digest}+`, files: body.files as Saved['files'] }
    return answer(200, shown())
  })
})
afterEach(() => {
  useDraft().leave()
  vi.unstubAllGlobals()
  vi.useRealTimers()
})

it('keeps what is not saved over a reload, and forgets it once it is', async () => {
  const draft = useDraft()
  await draft.open('D-1')
  draft.write('roles.toml', 'two')
  expect([draft.isChanged.value, recall('D-1')?.files[0]?.text]).toEqual([true, 'two'])
  // A reload: the text on the page is gone, what was kept is not.
  const backup = localStorage.getItem('ostrog-text-D-1')!
  draft.leave()
  localStorage.setItem('ostrog-text-D-1', backup)
  localStorage.setItem('ostrog-draft', 'D-1')
  await draft.resume()
  expect([draft.files.value[0]?.text, draft.isChanged.value, draft.other.value]).toEqual(['two', true, undefined])
  expect(await draft.save()).toBe(true)
  expect([kept.files[0]?.text, draft.isChanged.value, recall('D-1')]).toEqual(['two', false, undefined])
})

it('never writes over what somebody else saved unless told to', async () => {
  const draft = useDraft()
  await draft.open('D-1')
  draft.write('roles.toml', 'mine')
  kept = { digest: 'b', files: [{ path: 'roles.toml', text: 'theirs' }] }
  expect(await draft.save()).toBe(false)
  expect([kept.files[0]?.text, draft.files.value[0]?.text, draft.other.value?.files[0]?.text]).toEqual(['theirs', 'mine', 'theirs'])
  expect(await draft.overwrite()).toBe(true)
  expect(kept.files[0]?.text).toBe('mine')

  draft.write('roles.toml', 'mine again')
  kept = { digest: 'c', files: [{ path: 'roles.toml', text: 'theirs again' }] }
  await draft.save()
  draft.yieldToOther()
  expect([draft.files.value[0]?.text, recall('D-1')]).toEqual(['theirs again', undefined])
})

it('checks once after a pause in typing, and at once what a form changed', async () => {
  const draft = useDraft()
  await draft.open('D-1')
  const checks = () => calls.filter(({ path }) => path === '/api/v1/texts/check').length
  const before = checks()
  for (const text of ['t', 'tw', 'two']) draft.write('roles.toml', text)
  expect(checks()).toBe(before)
  await vi.advanceTimersByTimeAsync(400)
  expect(checks()).toBe(before + 1)
  expect(await draft.edit([{ path: ['role', 'cook'], value: {} }])).toBe(true)
  await flushPromises()
  expect([draft.files.value[0]?.text, draft.isChanged.value]).toEqual(['edited', true])
})

it('says that it is open, hears who else has it open, and follows what they save', async () => {
  const draft = useDraft()
  await draft.open('D-1')
  await flushPromises()
  expect(draft.present.value).toEqual(['night desk'])
  kept = { digest: 'b', files: [{ path: 'roles.toml', text: 'theirs' }] }
  await vi.advanceTimersByTimeAsync(16_000)
  expect([draft.files.value[0]?.text, draft.other.value]).toEqual(['theirs', undefined])
  // What is being written here is not written over: it is a choice.
  draft.write('roles.toml', 'ours')
  kept = { digest: 'c', files: [{ path: 'roles.toml', text: 'theirs again' }] }
  await vi.advanceTimersByTimeAsync(16_000)
  expect([draft.files.value[0]?.text, draft.other.value?.files[0]?.text]).toEqual(['ours', 'theirs again'])
  // Who is there is not claimed where it cannot be heard.
  const heard = fetch
  vi.stubGlobal('fetch', () => Promise.reject(new TypeError('Failed to fetch')))
  await vi.advanceTimersByTimeAsync(16_000)
  expect(draft.present.value).toEqual([])
  vi.stubGlobal('fetch', heard)
  draft.leave()
  const said = calls.length
  await vi.advanceTimersByTimeAsync(60_000)
  expect([calls.length, draft.present.value]).toEqual([said, []])
})

it('takes the last change of a form back, and shows what was declared while the text has errors', async () => {
  const draft = useDraft()
  await draft.open('D-1')
  await vi.advanceTimersByTimeAsync(400)
  declared = { roles: ['deckhand'] }
  await draft.edit([{ path: ['role', 'deckhand', 'name'], value: 'Deckhand' }])
  await vi.advanceTimersByTimeAsync(400)
  expect([draft.files.value[0]?.text, draft.model.value]).toEqual(['edited', declared])
  declared = null
  await draft.edit([{ path: ['role', 'deckhand', 'when'], value: 'hazzard' }])
  await vi.advanceTimersByTimeAsync(400)
  expect([draft.checked.data.value?.model, draft.model.value]).toEqual([null, { roles: ['deckhand'] }])
  draft.write('roles.toml', 'typed')
  expect(draft.before.value).toBeUndefined()
  await draft.edit([])
  draft.takeBack()
  expect([draft.files.value[0]?.text, draft.before.value]).toEqual(['typed', undefined])
  // Of another draft nothing is shown that this one declared.
  draft.leave()
  expect(draft.model.value).toBeUndefined()
})

it('does not write a form over what was typed while its change was under way', async () => {
  const draft = useDraft()
  await draft.open('D-1')
  const late = draft.edit([{ path: ['role', 'deckhand', 'name'], value: 'Deckhand' }])
  draft.write('roles.toml', 'typed meanwhile')
  expect(await late).toBe(false)
  expect(draft.files.value[0]?.text).toBe('typed meanwhile')
})

it('keeps the text of a draft that was discarded elsewhere, and takes it back or on', async () => {
  const draft = useDraft()
  await draft.open('D-1')
  await flushPromises()
  draft.write('roles.toml', 'half done')
  const heard = fetch
  const gone = {
    id: 'D-1',
    title: 'Wider',
    base: 1,
    authors: [],
    digest: 'a',
    'created-at': '',
    'saved-at': '',
    'discarded-at': '2026-11-27T08:00:00Z',
  }
  vi.stubGlobal('fetch', async (path: string, options: RequestInit) => {
    if (path.endsWith('/presence')) return answer(404, { type: '', title: '', status: 404, detail: 'There is no draft D-1.' })
    if (path === '/api/v1/discarded-drafts') return answer(200, [gone])
    if (path === '/api/v1/discarded-drafts/D-1/restoration') return answer(200, shown())
    return heard(path, options)
  })
  await vi.advanceTimersByTimeAsync(16_000)
  await flushPromises()
  expect([draft.ended.value, draft.files.value[0]?.text]).toEqual(['discarded', 'half done'])
  // Until it is settled nothing more is said of it.
  const said = calls.length
  await vi.advanceTimersByTimeAsync(60_000)
  expect(calls.length).toBe(said)
  await draft.bringBack()
  expect([draft.ended.value, draft.files.value[0]?.text, draft.isChanged.value]).toEqual(['', 'half done', true])
})

it('says that a draft went live elsewhere, and goes on with its text as another one', async () => {
  const draft = useDraft()
  await draft.open('D-1')
  await flushPromises()
  draft.write('roles.toml', 'half done')
  const heard = fetch
  const made = { draft: { ...shown().draft, id: 'D-2' }, files: [{ path: 'roles.toml', text: 'half done' }], standing: standing() }
  vi.stubGlobal('fetch', async (path: string, options: RequestInit) => {
    if (path.endsWith('D-1/presence')) return answer(404, { type: '', title: '', status: 404, detail: 'There is no draft D-1.' })
    if (path === '/api/v1/discarded-drafts') return answer(200, [])
    if (path === '/api/v1/drafts' && options.method === 'POST') return answer(200, made)
    return heard(path, options)
  })
  await vi.advanceTimersByTimeAsync(16_000)
  await flushPromises()
  expect(draft.ended.value).toBe('live')
  await draft.saveAnew()
  expect([draft.draft.value?.id, draft.ended.value, draft.isChanged.value, recall('D-1')]).toEqual(['D-2', '', false, undefined])
})
