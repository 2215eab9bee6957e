import { expect, it } from 'vitest'
import { attributeWritten, blank, formOf, inWords, relationWritten } from './property'

const attribute = {
  key: 'state',
  kind: 'text',
  many: false,
  from: 'either',
  values: ['filed', 'held'],
  default: 'filed',
  'across-tenants': false,
}

it('writes the short form where it says all, and values as their type is written', () => {
  expect(attributeWritten({ ...blank('integer'), key: 'hazard' })).toBe('integer')
  expect(attributeWritten({ ...blank('integer'), values: '1, 2', fallback: '2', from: 'request' })).toEqual({
    type: 'integer',
    from: 'request',
    values: [1, 2],
    default: 2,
  })
  expect(attributeWritten({ ...blank('boolean'), fallback: 'false' })).toEqual({ type: 'boolean', default: false })
  expect(attributeWritten({ ...blank('text'), many: true, fallback: '[]' })).toEqual({ type: 'text', many: true, default: [] })
  // What no number can hold exactly stays a text, which the charter reads as well.
  expect(attributeWritten({ ...blank('decimal'), fallback: '12345678901234567890.5' })).toEqual({
    type: 'decimal',
    default: '12345678901234567890.5',
  })
  expect(relationWritten({ ...blank('user') })).toBe('user')
  expect(relationWritten({ ...blank('user, group'), many: true, empty: true, across: true })).toEqual({
    to: ['user', 'group'],
    many: true,
    default: [],
    'across-tenants': true,
  })
})

it('comes back from what is declared to what was written', () => {
  const form = formOf(attribute, 'either')
  expect(attributeWritten(form)).toEqual({ type: 'text', values: ['filed', 'held'], default: 'filed' })
  expect(formOf({ ...attribute, from: 'register' }, 'either').from).toBe('register')
  const relation = { key: 'crew', kind: 'user, group', many: true, from: 'register', default: [], 'across-tenants': false }
  expect(relationWritten(formOf(relation, 'register'))).toEqual({ to: ['user', 'group'], many: true, default: [] })
})

it('says what it is in words', () => {
  expect(inWords(attribute, 'either', false)).toBe('text; one of filed, held; filed where nothing states it')
  expect(
    inWords({ key: 'crew', kind: 'user, group', many: true, from: 'request', default: [], 'across-tenants': true }, 'register', true),
  ).toBe('any number of user or group; from the request; empty where nothing states it; also into other tenants')
})
