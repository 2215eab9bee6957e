import { describe, expect, it } from 'vitest'
import { readJson, writeJson } from './json'

describe('JSON', () => {
  it.each([
    '{"a":9223372036854775807,"b":[-9223372036854775808,5],"c":"x"}',
    '{"weight":0.1234567890123456789012345678,"at":"2026-11-28T09:00:00.123456789Z"}',
    '[9007199254740993,9007199254740992,1.5,0.1,true,null,"9007199254740993"]',
  ])('%s is written as it was read', (text) => {
    expect(writeJson(readJson(text))).toBe(text)
  })

  it('has plain numbers where they hold what was written', () => {
    expect(readJson('{"n":123456,"text":"1234567890123456"}')).toEqual({ n: 123_456, text: '1234567890123456' })
    expect(String((readJson('[9223372036854775807]') as unknown[])[0])).toBe('9223372036854775807')
  })
})
