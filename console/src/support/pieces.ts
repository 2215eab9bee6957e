/** A table of a charter's file with the comments before it. */
export interface Piece {
  title: string
  text: string
}

/** A suggested file, table by table. */
export function pieces(text: string): Piece[] {
  const found: Piece[] = []
  let comments: string[] = []
  for (const line of text.split('\n')) {
    if (/^\s*\[/.test(line) && !/=/.test(line.split(']')[0]!)) {
      found.push({ title: line.trim(), text: [...comments, line].join('\n') })
      comments = []
    } else if (line.trim().startsWith('#') || (!line.trim() && comments.length)) {
      comments.push(line)
    } else if (line.trim() && found.length) {
      found[found.length - 1]!.text += `\n${[...comments, line].join('\n')}`
      comments = []
    }
  }
  return found.map((piece) => ({ ...piece, text: piece.text.trim() }))
}

/** The file without the pieces that are left out. */
export function accepted(all: Piece[], left: number[]): string {
  const kept = all.filter((_, at) => !left.includes(at))
  return kept.map((piece) => piece.text).join('\n\n') + (kept.length ? '\n' : '')
}
