import { describe, expect, it } from 'vitest'
import type { Defined } from '../api/types'
import { completions, meaning, open, show, tableAt, tell } from './editor'

const defined = (kind: string, name: string, start = 0, path = 'a.toml'): Defined => ({
  kind,
  name,
  words: '',
  path,
  start,
  end: start + name.length,
})
const outline = [
  defined('permission', 'manifest:release', 10),
  defined('attribute', 'resource.hazard', 50),
  defined('role', 'inspector', 90),
  defined('role', 'inspector', 90),
]

describe('completions', () => {
  const labels = (typed: string, inCondition: boolean) => completions(outline, typed, inCondition).map((one) => one.label)
  it('offers what is defined, each name once', () => {
    expect(labels('ins', false)).toEqual(['manifest:release', 'resource.hazard', 'inspector'])
  })
  it('offers paths, roles and functions within a condition', () => {
    const all = labels('res', true)
    expect(all).toContain('resource.hazard')
    expect(all).toContain("holds('')")
    expect(all).toContain('inspector')
    expect(all).not.toContain('manifest:release')
  })
})

describe('meaning', () => {
  it.each([
    ['manifest:release', 'b.toml', 0, 'manifest:release'],
    ['release', 'b.toml', 0, 'manifest:release'],
    ['hazard', 'b.toml', 0, 'resource.hazard'],
    ['unknown', 'b.toml', 0, undefined],
    ['whatever', 'a.toml', 92, 'inspector'],
  ])('%s in %s at %i is %s', (name, path, at, found) => {
    expect(meaning(outline, name, path, at)?.name).toBe(found)
  })
})

describe('tableAt', () => {
  const text = '# [role.a]\n[resource.crate]\nname = "[role.b]"\n\n  [[ rule ]]\nkey = "x"\n[ subject . user.attributes ]'
  it.each([
    [0, ['']],
    [text.indexOf('crate'), ['resource', 'crate']],
    [text.indexOf('[role.b]') + 3, ['resource', 'crate']],
    [text.indexOf('key'), ['rule']],
    [text.length, ['subject', 'user', 'attributes']],
  ])('at %i it is %j', (at, table) => expect(tableAt(text, at)).toEqual(table))
})

it('shows a text, tells what it becomes, and bears findings beyond its end', () => {
  const changes: string[] = []
  const around = {
    path: () => 'a.toml',
    outline: () => outline,
    onChange: (text: string) => changes.push(text),
    onGoTo: () => {},
    onSave: () => {},
  }
  const view = open(document.body, '[role.a]\n', around)
  view.dispatch({ changes: { from: 0, insert: '# ' } })
  expect(changes).toEqual(['# [role.a]\n'])
  const finding = {
    at: '',
    severity: 'error' as const,
    code: '',
    message: 'unknown',
    help: null,
    fix: 'b',
    path: 'a.toml',
    start: 3,
    end: 900,
  }
  expect(() => tell(view, 'a.toml', [finding])).not.toThrow()
  show(view, 'other', around)
  expect(view.state.doc.toString()).toBe('other')
  view.destroy()
})
