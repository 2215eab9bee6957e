import { expect, it } from 'vitest'
import { differences } from './differences'

const ines = {
  entity: 'user:ines',
  tenants: ['northline'],
  attributes: { clearance: 3, post: 'quay' },
  relations: { supervisor: ['user:maren'] },
}

it.each([
  [undefined, ines, ['new']],
  [ines, ines, []],
  [ines, { ...ines, attributes: { clearance: 5, post: 'quay' } }, ['clearance 3 → 5']],
  [
    ines,
    { entity: 'user:ines', attributes: { clearance: 3, post: 'quay' }, relations: { supervisor: [] } },
    ['tenants northline → nothing', 'supervisor user:maren → nobody'],
  ],
  [
    { entity: 'group:night', members: ['user:a'] },
    { entity: 'group:night', members: ['user:a', 'user:b'] },
    ['members user:a → user:a, user:b'],
  ],
])('tells what a line changes: %#', (now, line, told) => {
  expect(differences(now, line)).toEqual(told)
})
