import type { EntityLine, EntityShown, GrantLine } from '../api/types'

/** A guarantee, as the slots of its sentence say it. */
export interface GuaranteeSaid {
  name: string
  claim: 'never' | 'always' | 'alike'
  permissions: string[]
  when: string
  assume: string
}
/** A case. */
export interface CaseSaid {
  name: string
  as: string
  on: string
  may: string[]
  mayNot: string[]
  now: string
  because: string
}
/** A sample: an entity with the groups it is in and what is granted to it. */
export interface SampleSaid {
  line: EntityLine
  groups: string[]
  grants: GrantLine[]
}

/** A text as TOML has it. JSON escapes all that TOML wants escaped but one character. */
const quoted = (text: string) => JSON.stringify(text).replace(/\x7f/g, '\\u007f')
const bare = (key: string) => (/^[A-Za-z0-9_-]+$/.test(key) ? key : quoted(key))
function inline(value: unknown): string {
  if (typeof value === 'string') return quoted(value)
  if (Array.isArray(value)) return `[${value.map(inline).join(', ')}]`
  if (typeof value === 'object' && value !== null) {
    const fields = Object.entries(value).filter(([, inner]) => inner !== undefined && inner !== null)
    return fields.length ? `{ ${fields.map(([key, inner]) => `${bare(key)} = ${inline(inner)}`).join(', ')} }` : '{}'
  }
  return String(value)
}

/** A table of a rehearsal file; what is not said has no line. */
function table(head: string, fields: [string, unknown][]): string {
  const empty = (value: unknown) =>
    value === undefined ||
    value === '' ||
    value === false ||
    (Array.isArray(value) && !value.length) ||
    (typeof value === 'object' && value !== null && !Object.keys(value).length)
  const lines = fields.filter(([, value]) => !empty(value)).map(([key, value]) => `${bare(key)} = ${inline(value)}`)
  return [head, ...lines, ''].join('\n')
}

export const guaranteeText = (said: GuaranteeSaid) =>
  table('[[guarantee]]', [
    ['name', said.name],
    [said.claim, said.claim === 'alike' ? said.permissions : said.permissions[0]],
    ['when', said.when],
    ['assume', said.assume],
  ])

export const caseText = (said: CaseSaid) =>
  table('[[case]]', [
    ['name', said.name],
    ['as', said.as],
    ['on', said.on],
    ['now', said.now],
    ['may', said.may],
    ['may-not', said.mayNot],
    ['because', said.because],
  ])

export function sampleText({ line, groups, grants }: SampleSaid): string {
  const { entity, ...said } = line
  // An id is given anew, and who it is granted to is said by the table's head.
  const given = grants.map(({ id: _, to: __, ...terms }) => terms)
  return table(`[sample.${quoted(entity)}]`, [
    ...Object.entries(said),
    ['groups', groups.map((group) => group.replace(/^group:/, ''))],
    ['grants', given],
  ])
}

/** A sample of what is registered, as it stands. */
export const sampleOf = (shown: EntityShown): SampleSaid => ({
  line: shown.entity,
  groups: shown.groups,
  grants: shown.grants.map((one) => one.grant),
})

/** A guarantee as a sentence that can be read. */
export function guaranteeSentence({ claim, permissions, when, assume }: GuaranteeSaid): string {
  const what = permissions.join(' and ') || '…'
  const whom = when.trim() ? `where ${when.trim()}` : 'whatever is said'
  const told = {
    never: `Nobody ever may ${what}, ${whom}.`,
    always: `Everybody always may ${what}, ${whom}.`,
    alike: `Whoever may one of ${what} may the other, ${whom}.`,
  }[claim]
  return assume.trim() ? `${told} It is assumed that ${assume.trim()}.` : told
}
