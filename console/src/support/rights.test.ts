import { expect, it } from 'vitest'
import { readRights, tellRights } from './rights'

it.each([
  ['reader', [{ role: 'reader', at: 'everywhere' }]],
  [
    ' reader ,grant-editor@tenant:north, ',
    [
      { role: 'reader', at: 'everywhere' },
      { role: 'grant-editor', at: 'tenant:north' },
    ],
  ],
  ['', []],
])('reads %j and tells it again', (text, rights) => {
  expect(readRights(text)).toEqual(rights)
  expect(readRights(tellRights(rights))).toEqual(rights)
})
