import { expect, it } from 'vitest'
import { type Rehearsed, sinceThen } from './rehearsed'

const found = (cases: [string, boolean][], guarantees: [string, 'proved' | 'refuted'][]): Rehearsed => ({
  of: 'live',
  at: '',
  charter: '',
  cases: cases.map(([name, passed]) => ({ name, passed, place: '', checks: [] })),
  guarantees: guarantees.map(([name, outcome]) => ({ name, outcome, place: '', claim: '' })),
  coverage: { roles: [], rules: [], clauses: [], removable: [], tried: 0, parts: 0 },
})

it('tells what came out differently than the run before', () => {
  const before = found([['a', true], ['b', false], ['gone', true]], [['g', 'proved']])
  const now = found([['a', true], ['b', true], ['new', false]], [['g', 'refuted']])
  expect(sinceThen(now, before)).toEqual(['case b: passes, was: fails', 'case new: new, fails', 'guarantee g: refuted, was: proved', 'case gone: is no longer there'])
  expect(sinceThen(now, now)).toEqual([])
})
