import { call, withQuery } from './client'
import type {
  Asked,
  Change,
  Draft,
  DraftText,
  EntityShown,
  Grid,
  KeyAsked,
  KeyMade,
  KeyShown,
  Model,
  Page,
  Revision,
  SignedIn,
  Status,
} from './types'

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
  revisions: () => call<Revision[]>('GET', '/api/v1/revisions'),
  drafts: () => call<Draft[]>('GET', '/api/v1/drafts'),
  draft: (id: string) => call<DraftText>('GET', `/api/v1/drafts/${encodeURIComponent(id)}`),
  discard: (id: string) => call<Draft>('DELETE', `/api/v1/drafts/${encodeURIComponent(id)}`),
  rollOut: (what: string, note: string, acceptUnfit: boolean) =>
    call<Revision>('POST', '/api/v1/rollouts', { what, for: 'all', ...(note ? { note } : {}), 'accept-unfit': acceptUnfit }),
  keys: () => call<KeyShown[]>('GET', '/api/v1/keys'),
  newKey: (asked: KeyAsked) => call<KeyMade>('POST', '/api/v1/keys', asked),
  replaceKey: (id: string) => call<KeyMade>('POST', `/api/v1/keys/${encodeURIComponent(id)}/replacement`, {}),
  endKey: (id: string) => call<KeyShown>('DELETE', `/api/v1/keys/${encodeURIComponent(id)}`),
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
