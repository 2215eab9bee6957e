import { diffLines } from 'diff'
import type { File } from '../api/types'

/** A line of a text beside what it was. */
export interface Line {
  /** `+` it is new, `-` it is gone, a blank: it stays. */
  sign: '+' | '-' | ' '
  /** Its number in the text as it is now; a line that is gone has none. */
  number?: number
  text: string
}

/** A file with what changed in it, and some lines around that. */
export interface ChangedFile {
  path: string
  /** Stretches of lines; between two of them nothing changed. */
  parts: Line[][]
}

const AROUND = 3

/** What changed between two texts, file by file; of a file that is the same nothing is told. */
export function changedFiles(before: File[], after: File[]): ChangedFile[] {
  const paths = [...new Set([...before, ...after].map((file) => file.path))].sort()
  const textOf = (files: File[], path: string) => files.find((file) => file.path === path)?.text ?? ''
  return paths.flatMap((path) => {
    const parts = changedParts(textOf(before, path), textOf(after, path))
    return parts.length ? [{ path, parts }] : []
  })
}

function changedParts(before: string, after: string): Line[][] {
  let number = 0
  const lines: Line[] = diffLines(before, after).flatMap((part) =>
    part.value
      .replace(/\n$/, '')
      .split('\n')
      .map((text) => {
        if (part.removed) return { sign: '-' as const, text }
        number += 1
        return { sign: part.added ? ('+' as const) : (' ' as const), number, text }
      }),
  )
  const near = lines.map((_, at) => lines.slice(Math.max(at - AROUND, 0), at + AROUND + 1).some((line) => line.sign !== ' '))
  const parts: Line[][] = []
  lines.forEach((line, at) => {
    if (!near[at]) return
    if (!near[at - 1]) parts.push([])
    parts.at(-1)!.push(line)
  })
  return parts
}
