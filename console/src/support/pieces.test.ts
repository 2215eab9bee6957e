import { expect, it } from 'vitest'
import { accepted, pieces } from './pieces'

const TEXT = `# From a document.

# GET /manifests
[resource.manifest]
actions = { view = "See it" }

# a guess: it has an id
[resource.manifest.attributes]
line = "text"

[[route]]
path = "/manifests/{manifest}"
needs = [
  "manifest:view",
]
`

it('takes a suggested file apart and puts what is accepted together again', () => {
  const all = pieces(TEXT)
  expect(all.map((piece) => piece.title)).toEqual(['[resource.manifest]', '[resource.manifest.attributes]', '[[route]]'])
  const squeezed = (text: string) => text.replace(/\n+/g, '\n').trim()
  expect(squeezed(accepted(all, []))).toBe(squeezed(TEXT))
  const rest = accepted(all, [1])
  expect(rest).not.toContain('a guess')
  expect(rest).toContain('needs = [\n  "manifest:view",\n]')
  expect(accepted(all, [0, 1, 2])).toBe('')
})
