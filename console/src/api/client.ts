import { readJson, writeJson } from '../support/json'
import type { Problem } from './types'

/** What the service said when it refused. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    readonly problem: Problem,
  ) {
    super(problem.detail)
  }
  /** Whoever is signed in is to show once more who they are; the session goes on. */
  get wantsSignIn() {
    return this.problem.type === 'urn:ostrog:problem:sign-in-again'
  }
}

/** The service cannot be reached, or what came back was no answer of it. */
export class Unreachable extends Error {}

type Method = 'GET' | 'POST' | 'PUT' | 'DELETE'

/** What a call needs beside its body. */
interface Beside {
  headers?: Record<string, string>
  /** The media type of a body that is no JSON. */
  type?: string
}

let onSignedOut: () => void = () => {}

/** How long nobody may have touched the page for what it asks by itself to count as theirs. */
const UNATTENDED = 5 * 60_000
let touched = Date.now()
for (const what of ['pointerdown', 'keydown']) addEventListener(what, () => (touched = Date.now()), { capture: true, passive: true })
/** Whether somebody is at the page: a page that is left open keeps no session alive. */
export const isAttended = () => Date.now() - touched < UNATTENDED

/** Says what to do when a call finds the session ended. */
export function whenSignedOut(run: () => void) {
  onSignedOut = run
}

/** One call; the session travels in a cookie that scripts cannot read. */
export async function call<T>(method: Method, path: string, body?: unknown, beside: Beside = {}): Promise<T> {
  const type = beside.type ?? 'application/json'
  const sent = body === undefined ? {} : { body: beside.type ? String(body) : writeJson(body) }
  const alone: Record<string, string> = isAttended() ? {} : { 'ostrog-unattended': '1' }
  const headers = { ...beside.headers, ...alone, ...(body === undefined ? {} : { 'content-type': type }) }
  let response: Response
  try {
    response = await fetch(path, { method, credentials: 'same-origin', headers, ...sent })
  } catch {
    throw new Unreachable('The service cannot be reached. Is it running?')
  }
  if (response.status === 204) return undefined as T
  const answer: unknown = await response
    .text()
    .then(readJson)
    .catch(() => undefined)
  if (response.ok) return answer as T
  if (!answer) throw new Unreachable(`The service answered ${response.status} without a reason.`)
  const refused = new Refused(response.status, answer as Problem)
  if (response.status === 401 && path !== '/api/v1/session' && !refused.wantsSignIn) onSignedOut()
  throw refused
}

/** A path with its parameters encoded. */
export function withQuery(path: string, query: Record<string, string | number | undefined>): string {
  const pairs = Object.entries(query).filter(([, value]) => value !== undefined && value !== '')
  const text = new URLSearchParams(pairs.map(([key, value]) => [key, String(value)])).toString()
  return text ? `${path}?${text}` : path
}
