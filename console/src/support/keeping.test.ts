import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import { forget, forgetAll, keep, recall, stillHere } from './keeping'

const text = (words: string) => ({ from: 'a', files: [{ path: 'roles.toml', text: words }] })
/** Another tab of the same browser: what is of the tab is its own, the rest is shared. */
function inAnotherTab<T>(work: () => T): T {
  const own = sessionStorage.getItem('ostrog-tab')
  sessionStorage.removeItem('ostrog-tab')
  const done = work()
  if (own) sessionStorage.setItem('ostrog-tab', own)
  return done
}

beforeEach(() => vi.useFakeTimers({ now: 1_000_000, toFake: ['Date'] }))
afterEach(() => void vi.useRealTimers())

it('keeps the text of each tab by itself: what one saves is not the other’s', () => {
  keep('D-1', text('mine'))
  inAnotherTab(() => {
    keep('D-1', text('theirs'))
    expect(recall('D-1')?.files[0]?.text).toBe('theirs')
    forget('D-1')
  })
  expect(recall('D-1')?.files[0]?.text).toBe('mine')
  expect(recall('D-2')).toBeUndefined()
})

it('takes over what a tab that is gone kept, and nothing of one that is there', () => {
  keep('D-1', text('left behind'))
  expect(inAnotherTab(() => recall('D-1'))).toBeUndefined()
  vi.setSystemTime(1_050_000)
  stillHere('D-1')
  vi.setSystemTime(1_100_000)
  expect(
    inAnotherTab(() => recall('D-1')),
    'it said that it is there',
  ).toBeUndefined()
  vi.setSystemTime(1_200_000)
  expect(inAnotherTab(() => recall('D-1'))?.files[0]?.text).toBe('left behind')
  // It is the other tab's now.
  expect(recall('D-1')).toBeUndefined()
})

it('leaves nothing behind at sign-out, and nothing of others', () => {
  keep('D-1', text('mine'))
  localStorage.setItem('ostrog-draft', 'D-1')
  localStorage.setItem('of-somebody-else', 'x')
  forgetAll()
  expect([...Array(localStorage.length).keys()].map((at) => localStorage.key(at))).toEqual(['of-somebody-else'])
})

it('takes what is no text for nothing', () => {
  keep('D-1', text('mine'))
  const key = Object.keys(localStorage).find((one) => one.startsWith('ostrog-text-'))!
  for (const broken of ['{', 'null', '{"from":1,"files":[]}', '{"from":"a"}']) {
    localStorage.setItem(key, broken)
    expect(recall('D-1'), broken).toBeUndefined()
  }
})
