/** A table of a suggested file: its comments and head, and the lines under it. */
export interface Piece {
  title: string
  head: string
  lines: string[]
}

/** What is left out: a piece as a whole, or one of its lines. */
export type Left = string
export const wholly = (piece: number): Left => `${piece}`
export const one = (piece: number, line: number): Left => `${piece}.${line}`

/** `actions = { view = "See it", file = "File one" }` as its parts, so that each can be refused. */
function parts(line: string): string[] {
  const inline = /^([a-z-]+) = \{ (.*) \}$/.exec(line)
  if (!inline || /^(new|any|type|to) = /.test(inline[2]!)) return [line]
  return inline[2]!.split(/, (?=[a-z-]+ = ")/).map((part) => `${inline[1]!}.${part}`)
}

/** A suggested file, table by table and line by line. */
export function pieces(text: string): Piece[] {
  const found: Piece[] = []
  let comments: string[] = []
  let open = false
  for (const line of text.split('\n')) {
    const last = found[found.length - 1]
    if (open && last) {
      last.lines[last.lines.length - 1] += `\n${line}`
      open = !/^\s*\]/.test(line)
    } else if (/^\s*\[/.test(line) && !/=/.test(line.split(']')[0]!)) {
      found.push({ title: line.trim(), head: [...comments, line].join('\n').trim(), lines: [] })
      comments = []
    } else if (line.trim().startsWith('#') || (!line.trim() && comments.length)) {
      comments.push(line)
    } else if (line.trim() && last) {
      const [first, ...rest] = parts(line)
      last.lines.push([...comments, first].join('\n').trim(), ...rest)
      comments = []
      open = /\[\s*$/.test(line)
    }
  }
  return found
}

/** The file without what is left out. */
export function accepted(all: Piece[], left: Left[]): string {
  const kept = all.flatMap((piece, at) => {
    if (left.includes(wholly(at))) return []
    const lines = piece.lines.filter((_, line) => !left.includes(one(at, line)))
    return [[piece.head, ...lines].join('\n')]
  })
  return kept.join('\n\n') + (kept.length ? '\n' : '')
}
