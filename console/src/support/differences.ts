import type { EntityLine, RegisterLine } from '../api/types'

const plain = (value: unknown) => (value === undefined ? 'nothing' : Array.isArray(value) ? value.join(', ') || 'nobody' : String(value))

/** What a line says of an entity that is not so now: `clearance 3 → 5`. */
export function differences(now: RegisterLine | undefined, line: EntityLine): string[] {
  if (!now) return ['new']
  const flat = (from: RegisterLine) => {
    const { attributes, relations, entity: _, merge: __, ...rest } = from as EntityLine & { merge?: boolean }
    return { ...rest, ...attributes, ...relations } as Record<string, unknown>
  }
  const [before, after] = [flat(now), flat(line)]
  const keys = [...new Set([...Object.keys(before), ...Object.keys(after)])]
  return keys.filter((key) => plain(before[key]) !== plain(after[key])).map((key) => `${key} ${plain(before[key])} → ${plain(after[key])}`)
}
