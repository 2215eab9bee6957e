import { describe, expect, it } from 'vitest'
import { blankOf } from './question'
import { blank, saidOf, permissionOf } from './question'

describe('permissionOf', () => {
  it.each([
    ['release', 'manifest:m-204', 'manifest:release'],
    [' manifest:release ', 'vessel:x', 'manifest:release'],
    ['release', '', 'release'],
    ['', 'manifest:m-204', ''],
  ])('%j about %j is %j', (action, resource, permission) => {
    expect(permissionOf(action, resource)).toBe(permission)
  })
})

describe('blank', () => {
  const whole = { subject: 'user:ines', permission: 'manifest:view', resource: '' }
  it('asks for what is missing, the resource aside', () => {
    expect(blank(whole)).toBeUndefined()
    expect(blank({ ...whole, subject: ' ' })).toContain('subject')
    expect(blank({ ...whole, permission: '' })).toContain('permission')
    expect(blank({ ...whole, permission: 'view' })).toContain('resource')
  })
})

describe('saidOf', () => {
  it('reads numbers, booleans and lists as such, and everything else as text', () => {
    const { context } = saidOf('zone=quay, level=5, open=true, marks=["a","b"]\nip=10.20.4.7, code=\'7\'')
    expect(context).toEqual({ zone: 'quay', level: 5, open: true, marks: ['a', 'b'], ip: '10.20.4.7', code: '7' })
  })
  it('says which part is none', () => {
    expect(saidOf('zone=quay, level').context).toEqual({ zone: 'quay, level' })
    expect(saidOf('level').wrong).toBe('"level" is not key=value.')
    expect(saidOf('').context).toEqual({})
    expect(saidOf('zone=quay, resource.weight=3, subject.post=night')).toEqual({
      context: { zone: 'quay' },
      ofResource: { weight: 3 },
      ofSubject: { post: 'night' },
    })
  })
})

it.each([
  ['', 'manifest:release', '', 'holders'],
  ['', 'manifest:release', 'manifest:m-204', 'holders'],
  ['user:ines', 'manifest:release', '', 'reach'],
  ['user:ines', '', 'manifest:m-204', 'actions'],
  ['user:ines', 'manifest:release', 'manifest:m-204', undefined],
  ['user:ines', '', '', undefined],
  ['', 'release', '', undefined],
])('a blank in %j %j %j asks for %s', (subject, permission, resource, asked) => {
  expect(blankOf({ subject, permission, resource })).toBe(asked)
})
