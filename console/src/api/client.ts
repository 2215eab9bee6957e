import type { Problem } from './types'

/** What the service said when it refused. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    readonly problem: Problem,
  ) {
    super(problem.detail)
  }
}

/** The service cannot be reached, or what came back was no answer of it. */
export class Unreachable extends Error {}

type Method = 'GET' | 'POST' | 'DELETE'

let onSignedOut: () => void = () => {}

/** Says what to do when a call finds the session ended. */
export function whenSignedOut(run: () => void) {
  onSignedOut = run
}

/** One call; the session travels in a cookie that scripts cannot read. */
export async function call<T>(method: Method, path: string, body?: unknown, signal?: AbortSignal): Promise<T> {
  let response: Response
  try {
    response = await fetch(path, {
      method,
      signal: signal ?? null,
      credentials: 'same-origin',
      ...(body === undefined ? {} : { body: JSON.stringify(body), headers: { 'content-type': 'application/json' } }),
    })
  } catch (cause) {
    if (signal?.aborted) throw cause
    throw new Unreachable('The service cannot be reached. Is it running?')
  }
  if (response.status === 204) return undefined as T
  const answer: unknown = await response.json().catch(() => undefined)
  if (response.ok) return answer as T
  if (!answer) throw new Unreachable(`The service answered ${response.status} without a reason.`)
  if (response.status === 401 && path !== '/api/v1/session') onSignedOut()
  throw new Refused(response.status, answer as Problem)
}

/** A path with its parameters encoded. */
export function withQuery(path: string, query: Record<string, string | number | undefined>): string {
  const pairs = Object.entries(query).filter(([, value]) => value !== undefined && value !== '')
  const text = new URLSearchParams(pairs.map(([key, value]) => [key, String(value)])).toString()
  return text ? `${path}?${text}` : path
}
