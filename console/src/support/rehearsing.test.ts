import { expect, it } from 'vitest'
import { caseText, guaranteeSentence, guaranteeText, sampleOf, sampleText } from './rehearsing'

it('writes a guarantee from the slots of its sentence', () => {
  const said = {
    name: 'Held "stays" held',
    claim: 'never' as const,
    permissions: ['manifest:release'],
    when: "resource.state == 'held'",
    assume: '',
  }
  expect(guaranteeText(said)).toBe(
    '[[guarantee]]\nname = "Held \\"stays\\" held"\nnever = "manifest:release"\nwhen = "resource.state == \'held\'"\n',
  )
  expect(guaranteeSentence(said)).toBe("Nobody ever may manifest:release, where resource.state == 'held'.")
  const alike = { ...said, claim: 'alike' as const, permissions: ['inspection:open', 'inspection:close'], when: '', assume: 'true' }
  expect(guaranteeText(alike)).toContain('alike = ["inspection:open", "inspection:close"]\nassume = "true"\n')
  expect(guaranteeSentence(alike)).toBe(
    'Whoever may one of inspection:open and inspection:close may the other, whatever is said. It is assumed that true.',
  )
})

it('leaves out what a case does not say, and escapes what TOML wants escaped', () => {
  const said = { name: 'a\u007f\nb', as: 'user:ines', on: '', may: ['tariff:view'], mayNot: [], now: '', because: '' }
  expect(caseText(said)).toBe('[[case]]\nname = "a\\u007f\\nb"\nas = "user:ines"\nmay = ["tariff:view"]\n')
})

it('makes a sample of what is registered: its line, its groups, its grants without their ids', () => {
  const shown = {
    entity: {
      entity: 'user:ines',
      tenants: ['northline'],
      attributes: { clearance: 3, post: 'quay', 'of note': true },
      relations: { supervisor: 'user:maren' },
    },
    groups: ['group:night'],
    grants: [{ grant: { id: 'g-1', role: 'line-agent', to: 'user:ines', at: 'everywhere', values: { line: ['NL'] } } }],
    contents: [],
    tag: '',
    position: 1,
  }
  expect(sampleText(sampleOf(shown as never))).toBe(
    [
      '[sample."user:ines"]',
      'tenants = ["northline"]',
      'attributes = { clearance = 3, post = "quay", "of note" = true }',
      'relations = { supervisor = "user:maren" }',
      'groups = ["night"]',
      'grants = [{ role = "line-agent", at = "everywhere", values = { line = ["NL"] } }]',
      '',
    ].join('\n'),
  )
})
