import { call, withQuery } from './client'
import type { Asked, Change, EntityShown, Grid, Model, Page, SignedIn, Status } from './types'

/** A question as the Try page holds it. */
export interface Question {
  subject: string
  permission: string
  resource: string
  context: Record<string, unknown>
  now: string
  suppose: string[]
}

export const api = {
  signIn: (key: string) => call<SignedIn>('POST', '/api/v1/session', { key }),
  signOut: () => call<void>('DELETE', '/api/v1/session'),
  signedIn: () => call<SignedIn>('GET', '/api/v1/session'),
  status: () => call<Status>('GET', '/api/v1/status'),
  changes: (limit: number) => call<Change[]>('GET', withQuery('/api/v1/changes', { limit })),
  model: () => call<Model>('GET', '/api/v1/model'),
  grid: (type: string) => call<Grid>('GET', `/api/v1/types/${encodeURIComponent(type)}/grid`),
  entity: (name: string) => call<EntityShown>('GET', `/api/v1/entities/${encodeURIComponent(name)}`),
  entities: (prefix: string, limit: number) => call<Page>('GET', withQuery('/api/v1/entities', { prefix, limit })),
  setFacts: (set: string[]) => call<{ position: string }>('POST', '/api/v1/facts', { set }),
  ask: (question: Question) =>
    call<Asked>('POST', '/api/v1/ask', {
      subject: question.subject,
      permission: question.permission,
      context: question.context,
      suppose: question.suppose,
      ...(question.resource ? { resource: question.resource } : {}),
      ...(question.now ? { now: question.now } : {}),
    }),
}
