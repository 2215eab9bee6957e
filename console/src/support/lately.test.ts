import { expect, it } from 'vitest'
import { lastQuestions, rememberQuestion } from './lately'

const question = (subject: string) => ({
  subject,
  permission: 'a:b',
  resource: '',
  context: { secret: 1 },
  ofSubject: {},
  ofResource: {},
  now: '',
  suppose: [],
})

it('remembers the last few questions once each, the newest first, and nothing but their slots', () => {
  for (let n = 0; n < 12; n += 1) rememberQuestion(question(`user:${n}`))
  rememberQuestion(question('user:7'))
  const all = lastQuestions()
  expect(all.map((one) => one.subject)).toEqual(['user:7', 'user:11', 'user:10', 'user:9', 'user:8', 'user:6', 'user:5', 'user:4'])
  expect(JSON.stringify(all)).not.toContain('secret')
})

it('takes what is no list of questions for none', () => {
  for (const broken of ['{', '{}', '[1, {"subject": 2}]']) {
    sessionStorage.setItem('ostrog-asked', broken)
    expect(lastQuestions(), broken).toEqual([])
  }
})
