import { expect, it } from 'vitest'
import { accepted, one, pieces, wholly } from './pieces'

const TEXT = `# From a document.

# GET /manifests
[resource.manifest]
actions = { view = "See it", file = "File one, or two" }

# a guess: it has an id
[resource.manifest.attributes]
line = "text"

[[route]]
path = "/manifests/{manifest}"
needs = [
  "manifest:view",
]
`

it('takes a suggested file apart, line by line, and puts what is accepted together again', () => {
  const all = pieces(TEXT)
  expect(all.map((piece) => piece.title)).toEqual(['[resource.manifest]', '[resource.manifest.attributes]', '[[route]]'])
  expect(all[0]!.lines).toEqual(['actions.view = "See it"', 'actions.file = "File one, or two"'])
  expect(all[2]!.lines[1]).toBe('needs = [\n  "manifest:view",\n]')
  const rest = accepted(all, [one(0, 0), wholly(1)])
  expect(rest).toContain('[resource.manifest]\nactions.file = "File one, or two"')
  expect(rest).not.toContain('See it')
  expect(rest).not.toContain('a guess')
  expect(rest).toContain('needs = [\n  "manifest:view",\n]')
  expect(accepted(all, [wholly(0), wholly(1), wholly(2)])).toBe('')
})
