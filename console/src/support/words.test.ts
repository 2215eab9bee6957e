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
  [[{ rollout: 3 }], 'revision 3 went live'],
  [[{ key: 'k-1', kind: 'operator', name: 'night' }], "operator's key k-1 made for night"],
  [[], 'register'],
])('tells a change: %#', (lines, sentence) => {
  expect(told({ position: 1, at: '', actor: 'k-1', kind: 'register', lines })).toBe(sentence)
})
