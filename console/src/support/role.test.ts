import { expect, it } from 'vitest'
import type { RoleShown } from '../api/types'
import { editsOf, formOf, stretch, termsOf } from './role'

const role = {
  key: 'hot-works',
  name: 'Hot works',
  description: '',
  includes: ['deckhand'],
  'held-by': ['user'],
  'held-at': ['vessel'],
  grantable: true,
  'given-to': null,
  values: [],
  permissions: ['berth:hot-works'],
  except: [],
  when: null,
  clauses: [],
  standby: { longest: 7_200, reason: true, 'by-self': false, when: "context.zone == 'quay'" },
} as unknown as RoleShown

it('writes nothing where nothing differs, and only what does', () => {
  const form = formOf(role)
  expect(editsOf(role, form)).toEqual([])
  form.includes.push('clerk')
  form.heldBy.push('service')
  form.heldAt = []
  form.longest = '45m'
  expect(editsOf(role, form)).toEqual([
    { path: ['role', 'hot-works', 'includes'], value: ['clerk', 'deckhand'] },
    { path: ['role', 'hot-works', 'held-by'], value: ['service', 'user'] },
    { path: ['role', 'hot-works', 'held-at'], value: undefined },
    { path: ['role', 'hot-works', 'standby'], value: { longest: '45m', when: "context.zone == 'quay'", reason: true } },
  ])
})

it('takes away what is as usual', () => {
  const served = { ...role, 'held-by': ['user', 'service'], grantable: false } as RoleShown
  const form = { ...formOf(served), heldBy: ['user'], grantable: true, onStandby: false }
  expect(editsOf(served, form).map((edit) => [edit.path[2], edit.value])).toEqual([
    ['held-by', undefined],
    ['grantable', undefined],
    ['standby', undefined],
  ])
})

it('says its terms as sentences, and stretches of time as the charter does', () => {
  expect(termsOf(role)).toEqual([
    'Held by users, granted at vessel.',
    "Its grants are on standby, activated for at most 2 hours at a time, while context.zone == 'quay', with a reason.",
  ])
  expect(termsOf({ ...role, standby: null, grantable: false, 'given-to': 'members' } as unknown as RoleShown)).toEqual([
    'Given to the members of the resource’s tenant, without a grant.',
    'Never granted: it is only conferred.',
  ])
  expect([stretch(5_400), stretch(86_400), stretch(0)]).toEqual(['1h30m', '1d', '0s'])
})
