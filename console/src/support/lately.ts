import type { Question } from '../api/calls'

const PLACE = 'ostrog-asked'
const MOST = 8

/** A question as its address holds it. */
export interface Lately {
  subject: string
  permission: string
  resource: string
}

/** The last questions of this tab, the newest first. */
export function lastQuestions(): Lately[] {
  try {
    const kept = JSON.parse(sessionStorage.getItem(PLACE) ?? '[]') as unknown
    return Array.isArray(kept)
      ? (kept as Lately[]).filter((one) => typeof one.subject === 'string' && typeof one.permission === 'string')
      : []
  } catch {
    return []
  }
}

export function rememberQuestion({ subject, permission, resource }: Question) {
  const one = { subject, permission, resource }
  const others = lastQuestions().filter((known) => JSON.stringify(known) !== JSON.stringify(one))
  try {
    sessionStorage.setItem(PLACE, JSON.stringify([one, ...others].slice(0, MOST)))
  } catch {
    // Without room nothing is remembered.
  }
}
