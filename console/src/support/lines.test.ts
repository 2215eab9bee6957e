import { describe, expect, it } from 'vitest'
import { changedFiles } from './lines'

const file = (path: string, ...lines: string[]) => ({ path, text: lines.join('\n') + '\n' })

describe('what changed in a text', () => {
  it('is told with its line in the text as it is now, and some lines around', () => {
    const before = file('a.toml', '1', '2', '3', '4', '5', '6', '7', '8', '9')
    const after = file('a.toml', '1', '2', '3', '4', 'five', '6', '7', '8', '9')
    const [changed] = changedFiles([before], [after])
    expect(changed!.parts).toHaveLength(1)
    expect(changed!.parts[0]!.map((line) => `${line.number ?? ''}${line.sign}${line.text}`)).toEqual([
      '2 2',
      '3 3',
      '4 4',
      '-5',
      '5+five',
      '6 6',
      '7 7',
      '8 8',
    ])
  })

  it('tells new files and files that are gone, and none that are the same', () => {
    const found = changedFiles([file('same.toml', 'a'), file('gone.toml', 'b')], [file('same.toml', 'a'), file('new.toml', 'c')])
    expect(found.map((one) => [one.path, one.parts.flat().map((line) => line.sign + line.text)])).toEqual([
      ['gone.toml', ['-b']],
      ['new.toml', ['+c']],
    ])
  })
})
