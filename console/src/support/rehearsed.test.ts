import { expect, it } from 'vitest'
import type { Draft, Ran } from '../api/types'
import { type Rehearsed, rehearsedState, sinceThen } from './rehearsed'

const found = (cases: [string, boolean][], guarantees: [string, 'proved' | 'refuted'][]): Rehearsed => ({
  of: 'live',
  at: '',
  charter: '',
  cases: cases.map(([name, passed]) => ({ name, passed, place: '', checks: [] })),
  guarantees: guarantees.map(([name, outcome]) => ({ name, outcome, place: '', claim: '' })),
  coverage: { roles: [], rules: [], clauses: [], removable: [], tried: 0, parts: 0 },
})

it('tells what came out differently than the run before', () => {
  const before = found(
    [
      ['a', true],
      ['b', false],
      ['gone', true],
    ],
    [['g', 'proved']],
  )
  const now = found(
    [
      ['a', true],
      ['b', true],
      ['new', false],
    ],
    [['g', 'refuted']],
  )
  expect(sinceThen(now, before)).toEqual([
    'case b: passes, was: fails',
    'case new: new, fails',
    'guarantee g: refuted, was: proved',
    'case gone: is no longer there',
  ])
  expect(sinceThen(now, now)).toEqual([])
})

it('says how the rehearsal of a draft stands, and not of a text that was changed since', () => {
  const draft = { id: 'D-1', 'saved-at': '2026-11-23T10:00:00Z' } as Draft
  const run = (number: number, state: Ran['state'], at: string, of = 'D-1') => ({ number, of, state, 'started-at': at }) as Ran
  const early = run(1, 'failed', '2026-11-23T09:00:00Z')
  const late = run(2, 'held', '2026-11-23T11:00:00Z')
  expect(rehearsedState([], draft, false)).toBe('not yet')
  expect(rehearsedState([run(9, 'failed', '2026-11-23T12:00:00Z', 'D-2')], draft, false)).toBe('not yet')
  expect(rehearsedState([early], draft, false)).toBe('not as it is now')
  expect(rehearsedState([early, late], draft, false)).toBe('all of it holds')
  expect(rehearsedState([late], draft, true)).toBe('not as it is now')
  expect(rehearsedState([late, run(3, 'running', '2026-11-23T12:00:00Z')], draft, false)).toBe('under way')
  expect(rehearsedState([run(4, 'failed', '2026-11-23T12:00:00Z')], draft, false)).toBe('it fails')
})
