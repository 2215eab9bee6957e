import { expect, it } from 'vitest'
import { counted, told } from './words'

it('counts in words', () => {
  expect(counted(1, 'grant')).toBe('1 grant')
  expect(counted(1234, 'entity', 'entities')).toBe('1,234 entities')
})

it.each([
  [[{ grant: { role: 'inspector', to: 'user:ines', at: 'everywhere' } }], 'inspector given to user:ines at everywhere'],
  [[{ delete: 'user:ines' }, { entity: 'group:day' }], 'user:ines deleted, and 1 line more'],
  [[{ 'end-grant': 'g-1' }, { note: 'a mistake' }], 'grant g-1 ended: a mistake'],
  [
    [{ grant: { role: 'inspector', to: 'user:ines', at: 'everywhere' } }, { next: { grant: 8, activation: 1 } }],
    'inspector given to user:ines at everywhere',
  ],
  [[{ rollout: 3 }], 'revision 3 went live'],
  [[{ rollout: 2, before: 3, note: 'too wide' }], 'revision 2 went live: too wide'],
  [[{ draft: 4, saved: 'Wider', digest: '' }], 'draft D-4 saved: Wider'],
  [[{ draft: 4, discarded: true }], 'draft D-4 discarded'],
  [[{ 'end-key': 'k-1', until: null }], 'key k-1 ended'],
  [[{ activation: { grant: 'g-8', subject: 'user:rui' } }], 'grant g-8 activated for user:rui'],
  [[{ 'end-tenant-role': 'north/desk' }], 'role north/desk ended'],
  [[{ key: 'k-1', kind: 'operator', name: 'night' }], "operator's key k-1 made for night"],
  [[], 'register'],
])('tells a change: %#', (lines, sentence) => {
  expect(told({ position: 1, at: '', actor: 'k-1', kind: 'register', lines })).toBe(sentence)
})
