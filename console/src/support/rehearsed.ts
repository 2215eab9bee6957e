import type { Draft, Explanation, Ran } from '../api/types'

/** What a rehearsal found, as the service keeps it. */
export interface Rehearsed {
  of: string
  at: string
  charter: string
  against?: { of: string; charter: string }
  cases: CaseFound[]
  guarantees: GuaranteeFound[]
  shift?: Shift
  coverage: { roles: string[]; rules: string[]; clauses: string[]; removable: string[]; tried: number; parts: number }
}
export interface CaseFound {
  name: string
  place: string
  passed: boolean
  checks: {
    subject: string
    permission: string
    resource?: string
    expected: boolean
    passed: boolean
    doubt?: string
    'expected-reason'?: string
    explanation: Explanation
  }[]
}
export interface GuaranteeFound {
  name: string
  place: string
  claim: string
  when?: string
  assume?: string
  outcome: 'proved' | 'refuted' | 'undecided' | 'vacuous'
  why?: string
  told?: string[]
  sample?: string
}
export interface ShiftLine {
  lost: boolean
  kind: string
  permission: string
  before: string
  after: string
  subjects: number
  resources: number
  who: { subject: string; count: number; on: string[] }[]
}
export interface Shift {
  gaining: number
  losing: number
  subjects: number
  asked: number
  permissions: string[]
  lines: ShiftLine[]
  unexamined: string[]
}

/** What came out differently than the run before, in words. */
export function sinceThen(now: Rehearsed, before: Rehearsed): string[] {
  const results = (found: Rehearsed) =>
    new Map([
      ...found.cases.map((one) => [`case ${one.name}`, one.passed ? 'passes' : 'fails'] as const),
      ...found.guarantees.map((one) => [`guarantee ${one.name}`, one.outcome] as const),
    ])
  const [new_, old] = [results(now), results(before)]
  const told: string[] = []
  for (const [what, result] of new_) {
    const then = old.get(what)
    if (then === undefined) told.push(`${what}: new, ${result}`)
    else if (then !== result) told.push(`${what}: ${result}, was: ${then}`)
  }
  for (const what of old.keys()) if (!new_.has(what)) told.push(`${what}: is no longer there`)
  return told
}

/** One answer that is not as it should be, as a sentence. */
export function wrong(check: CaseFound['checks'][number]): string {
  const { explanation } = check
  const word = explanation.allowed ? 'may' : 'may not'
  const reason = check['expected-reason']
  const wanted =
    reason && check.expected === explanation.allowed
      ? `but because of ${explanation.reason}, not ${reason}`
      : check.expected
        ? 'and should'
        : 'and should not'
  return `${check.subject} ${word} ${check.permission} on ${check.resource ?? 'a new one'}, ${wanted}: ${explanation.sentence}`
}

/** How the rehearsal of a draft stands, for the course: of the text that is saved, or of one before. */
export function rehearsedState(runs: Ran[], draft: Draft, isChanged: boolean): string {
  const last = runs.filter((run) => run.of === draft.id).sort((a, b) => b.number - a.number)[0]
  if (!last || last.state === 'broken-off') return 'not yet'
  if (last.state === 'running') return 'under way'
  if (isChanged || Date.parse(last['started-at']) < Date.parse(draft['saved-at'])) return 'not as it is now'
  return last.state === 'held' ? 'all of it holds' : 'it fails'
}
