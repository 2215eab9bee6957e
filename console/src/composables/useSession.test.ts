import { createPinia, setActivePinia } from 'pinia'
import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import { Refused } from '../api/client'
import { useSession } from './useSession'

/** Calls as they were made, and what a sign-in with an issuer is told. */
const calls: [string, Record<string, string>][] = []
const inAnHour = () => new Date(Date.now() + 3_600_000).toISOString()
const who = () => ({ key: 'person:vera', name: 'Vera', issuer: 'port-id', until: inAnHour() })
let renews = true

beforeEach(() => {
  vi.useFakeTimers()
  setActivePinia(createPinia())
  calls.length = 0
  renews = true
  vi.stubGlobal('fetch', (path: string, options: RequestInit) => {
    calls.push([`${options.method} ${path}`, options.headers as Record<string, string>])
    if (path.endsWith('/renewal') && !renews) {
      return Promise.resolve(new Response('{"type":"","title":"","status":409,"detail":"no"}', { status: 409 }))
    }
    const answer = path.endsWith('/renewal') ? { who: who() } : who()
    return Promise.resolve(new Response(JSON.stringify(answer)))
  })
})
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

const renewals = () => calls.filter(([call]) => call === 'POST /api/v1/session/renewal').length
const minutes = (count: number) => vi.advanceTimersByTimeAsync(count * 60_000)

it('renews what the issuer said for as long as somebody is at the page', async () => {
  const session = useSession()
  await session.look()
  for (const expected of [1, 2]) {
    await minutes(44)
    dispatchEvent(new Event('keydown'))
    expect(renewals()).toBe(expected - 1)
    await minutes(1)
    expect(renewals()).toBe(expected)
  }
  // Nobody touches it any more: it ends by itself, and what is still asked says that nobody is there.
  await minutes(120)
  expect(renewals()).toBe(2)
  await session.look()
  expect(calls.at(-1)![1]).toHaveProperty('ostrog-unattended')
})

it('stays signed in until the end where it cannot be renewed', async () => {
  renews = false
  const session = useSession()
  await session.look()
  await minutes(44)
  dispatchEvent(new Event('pointerdown'))
  await minutes(2)
  expect(renewals()).toBe(1)
  expect(session.who.value?.name).toBe('Vera')
})

it('tells a sign-in that is too old from a session that has ended', () => {
  const problem = (name: string) => ({ type: `urn:ostrog:problem:${name}`, title: '', status: 401, detail: '' })
  expect(new Refused(401, problem('sign-in-again')).wantsSignIn).toBe(true)
  expect(new Refused(401, problem('unauthenticated')).wantsSignIn).toBe(false)
})
