import { call, withQuery } from './client'
import { writeJson } from '../support/json'
import type { Rehearsed } from '../support/rehearsed'
import type { Said } from '../support/question'
import type {
  ActionTold,
  ActivationLine,
  Around,
  Asked,
  AskedLately,
  Attempted,
  CaseAsked,
  CaseShown,
  Change,
  Checked,
  DifferenceGroup,
  Draft,
  DraftText,
  Edit,
  EntityLine,
  EntityShown,
  File,
  GrantLine,
  Grid,
  HolderTold,
  Holdings,
  IssuerAsked,
  IssuerShown,
  KeyAsked,
  KeyMade,
  KeyShown,
  Listed,
  Live,
  Members,
  Model,
  NodeShown,
  Page,
  Presence,
  ReachTold,
  Reached,
  Ran,
  RegisterLine,
  RehearsalText,
  Released,
  Review,
  Revision,
  RevisionText,
  RouteTold,
  Renewed,
  Settings,
  SettingsChange,
  Shadow,
  SignInWith,
  SignedIn,
  Status,
  Step,
  Imported,
  Suggested,
  TenantRoleLine,
  TokenRead,
  Waiting,
  Written,
} from './types'

/** A question as the Try page holds it. */
export interface Question extends Said {
  subject: string
  permission: string
  resource: string
  now: string
  suppose: string[]
  /** Under a draft's text. */
  draft?: string
  wouldTake?: boolean
  /** In the place of the subject. It stands in no address and is remembered nowhere. */
  token?: string
}

/** A text to save. */
export interface Saving {
  title: string
  files: File[]
  draft?: string
  from?: string
  'onto-live'?: boolean
}

/** What is to go live, for whom. */
export interface RollingOut {
  what: string
  for: string
  note?: string
  'accept-unfit'?: boolean
  urgent?: boolean
  check?: boolean
}

/** Which holdings. */
export interface HoldingQuery {
  at?: string
  by?: string
  role?: string
  after?: number
  limit?: number
}

const named = (path: string, name: string) => `${path}/${encodeURIComponent(name)}`

export const api = {
  signIn: (key: string) => call<SignedIn>('POST', '/api/v1/session', { key }),
  signOut: () => call<void>('DELETE', '/api/v1/session'),
  signedIn: () => call<SignedIn>('GET', '/api/v1/session'),
  renewSession: () => call<Renewed>('POST', '/api/v1/session/renewal', {}),
  signInWith: () => call<SignInWith[]>('GET', '/api/v1/sign-in'),
  status: () => call<Status>('GET', '/api/v1/status'),
  changes: (limit: number, about?: string) => call<Page<Change>>('GET', withQuery('/api/v1/changes', { limit, about, brief: 'true' })),
  asked: () => call<AskedLately>('GET', '/api/v1/asked'),

  model: (draft?: string) => call<Model>('GET', withQuery('/api/v1/model', { draft })),
  grid: (type: string, draft?: string) => call<Grid>('GET', withQuery(`${named('/api/v1/types', type)}/grid`, { draft })),
  reached: (role: string) => call<Reached>('GET', `${named('/api/v1/roles', role)}/reached`),
  revisions: () => call<Revision[]>('GET', '/api/v1/revisions'),
  revision: (number: string) => call<RevisionText>('GET', named('/api/v1/revisions', number)),

  drafts: () => call<Draft[]>('GET', '/api/v1/drafts'),
  draft: (id: string) => call<DraftText>('GET', named('/api/v1/drafts', id)),
  presence: (id: string) => call<Presence>('PUT', `${named('/api/v1/drafts', id)}/presence`),
  saveDraft: (saving: Saving) => call<DraftText>('POST', '/api/v1/drafts', saving),
  discardedDrafts: () => call<Draft[]>('GET', '/api/v1/discarded-drafts'),
  restoreDraft: (id: string) => call<DraftText>('POST', `${named('/api/v1/discarded-drafts', id)}/restoration`, {}),
  discard: (id: string) => call<Draft>('DELETE', named('/api/v1/drafts', id)),
  check: (files: File[], grid?: string) => call<Checked>('POST', '/api/v1/texts/check', { files, ...(grid ? { grid } : {}) }),
  edit: (files: File[], edits: Edit[]) => call<{ files: File[] }>('POST', '/api/v1/texts/edit', { files, edits }),
  import: (asked: Imported) => call<Suggested>('POST', '/api/v1/texts/import', asked),
  live: () => call<Live[]>('GET', '/api/v1/live'),
  steps: () => call<Step[]>('GET', '/api/v1/rollouts'),
  rollOut: (asked: RollingOut) => call<Released>('POST', '/api/v1/rollouts', asked),
  rollBack: (forWhom: string, note: string) => call<Released>('POST', '/api/v1/rollbacks', { for: forWhom, note }),
  bar: (revision: number, note: string) => call<Revision>('POST', `${named('/api/v1/revisions', String(revision))}/bar`, { note }),
  nodes: () => call<NodeShown[]>('GET', '/api/v1/nodes'),
  waiting: () => call<Waiting[]>('GET', '/api/v1/waiting'),
  review: (draft: string) => call<Review>('GET', `${named('/api/v1/drafts', draft)}/review`),
  approve: (id: string, asked: { digest?: string; report?: number; accepts: Record<string, string>; note?: string }) =>
    call<{ approvals: number; needed: number; revision?: number }>('POST', `${named('/api/v1/reviews', id)}/approval`, asked),
  giveBack: (id: string, note: string) => call<void>('POST', `${named('/api/v1/reviews', id)}/return`, { note }),
  remark: (draft: string, asked: { path?: string; line?: number; text: string }) =>
    call<void>('POST', `${named('/api/v1/drafts', draft)}/comments`, asked),
  settings: () => call<Settings>('GET', '/api/v1/settings'),
  putSettings: (asked: { text: string; from: number; note?: string; check?: boolean }) =>
    call<SettingsChange>('PUT', '/api/v1/settings', asked),
  shadows: () => call<Shadow[]>('GET', '/api/v1/shadows'),
  beginShadow: (revision: number, forWhom: string) => call<Shadow>('POST', '/api/v1/shadows', { revision, for: forWhom }),
  endShadow: (number: number) => call<Shadow>('DELETE', named('/api/v1/shadows', String(number))),
  shadowDifferences: (number: number) => call<DifferenceGroup[]>('GET', `${named('/api/v1/shadows', String(number))}/differences`),

  /** Without the members it may have many of, but with their number. */
  entity: (name: string) => call<EntityShown>('GET', withQuery(named('/api/v1/entities', name), { brief: 'true' })),
  /** All that is said of it, to be written again. */
  wholeEntity: (name: string) => call<EntityShown>('GET', named('/api/v1/entities', name)),
  around: (name: string) => call<Around>('GET', `${named('/api/v1/entities', name)}/around`),
  entities: (prefix: string, limit: number, more: { after?: string; attribute?: string; containing?: string; within?: string } = {}) =>
    call<Page>('GET', withQuery('/api/v1/entities', { prefix, limit, ...more, brief: 'true' })),
  members: (name: string, after?: string, containing?: string) =>
    call<Members>('GET', withQuery(`${named('/api/v1/entities', name)}/members`, { after, containing })),
  putEntity: (line: EntityLine, tag?: string) =>
    call<Written>('PUT', named('/api/v1/entities', line.entity), line, { headers: tag ? { 'if-match': tag } : { 'if-none-match': '*' } }),
  deleteEntity: (name: string, tag: string) =>
    call<Written>('DELETE', named('/api/v1/entities', name), undefined, { headers: { 'if-match': tag } }),
  setFacts: (set: string[], remove: string[] = []) => call<Written>('POST', '/api/v1/facts', { set, remove }),
  load: (lines: string, check: boolean, at?: number) =>
    call<Written>('POST', withQuery('/api/v1/register', { check: String(check), at }), lines, { type: 'application/x-ndjson' }),

  holdings: (query: HoldingQuery) => call<Holdings>('GET', withQuery('/api/v1/holdings', { ...query })),
  grants: (role: string) => call<Page<{ grant: GrantLine }>>('GET', withQuery('/api/v1/grants', { role, limit: 1000 })),
  give: (grant: RegisterLine) => call<Written>('POST', '/api/v1/grants', grant),
  endGrant: (id: string, note: string) => call<Written>('DELETE', withQuery(named('/api/v1/grants', id), { note })),
  /** What was held by a grant that has ended, by a new one. */
  giveAgain: ({ id: _, ...grant }: GrantLine) => call<Written>('POST', '/api/v1/grants', grant),
  endGrants: (ids: string[]) =>
    call<Written>('POST', '/api/v1/register', ids.map((id) => writeJson({ 'end-grant': id })).join('\n'), {
      type: 'application/x-ndjson',
    }),
  activations: () => call<Page<{ activation: ActivationLine }>>('GET', '/api/v1/activations'),
  activate: (activation: RegisterLine) => call<Written>('POST', '/api/v1/activations', activation),
  deactivate: (id: string) => call<Written>('DELETE', named('/api/v1/activations', id)),
  tenantRoles: () => call<Page<{ 'tenant-role': TenantRoleLine }>>('GET', '/api/v1/tenant-roles'),
  putTenantRole: (role: TenantRoleLine) => call<Written>('PUT', '/api/v1/tenant-roles', role),
  endTenantRole: (tenant: string, key: string) =>
    call<Written>('DELETE', `${named('/api/v1/tenant-roles', tenant)}/${encodeURIComponent(key)}`),

  keys: () => call<KeyShown[]>('GET', '/api/v1/keys'),
  newKey: (asked: KeyAsked) => call<KeyMade>('POST', '/api/v1/keys', asked),
  replaceKey: (id: string) => call<KeyMade>('POST', `${named('/api/v1/keys', id)}/replacement`, {}),
  endKey: (id: string) => call<KeyShown>('DELETE', named('/api/v1/keys', id)),

  issuers: () => call<IssuerShown[]>('GET', '/api/v1/issuers'),
  addIssuer: (asked: IssuerAsked) => call<IssuerShown>('POST', '/api/v1/issuers', asked),
  endIssuer: (key: string) => call<IssuerShown>('DELETE', named('/api/v1/issuers', key)),
  tryIssuer: (key: string) => call<Attempted>('POST', `${named('/api/v1/issuers', key)}/attempt`, {}),
  readToken: (asked: { token: string } | { issuer: string; claims: Record<string, unknown> }) =>
    call<TokenRead>('POST', '/api/v1/tokens/reading', asked),
  checkRoute: (asked: { application: string; method: string; path: string; subject?: string; token?: string }) =>
    call<RouteTold>('POST', '/api/v1/routes/check', asked),

  rehearsal: () => call<RehearsalText>('GET', '/api/v1/rehearsal'),
  saveRehearsal: (files: { path: string; text: string }[], from: number) =>
    call<RehearsalText>('PUT', '/api/v1/rehearsal', { files, from }),
  rehearsals: () => call<Ran[]>('GET', '/api/v1/rehearsals'),
  beginRehearsal: (draft?: string) => call<Ran>('POST', '/api/v1/rehearsals', draft ? { draft } : {}),
  stopRehearsal: (number: number) => call<void>('DELETE', `/api/v1/rehearsals/${number}`),
  rehearsed: (number: number) => call<Rehearsed>('GET', `/api/v1/rehearsals/${number}`),
  cases: () => call<CaseShown[]>('GET', '/api/v1/cases'),
  keepCase: (asked: CaseAsked) => call<CaseShown>('POST', '/api/v1/cases', asked),
  takeCaseAway: (number: number) => call<void>('DELETE', `/api/v1/cases/${number}`),
  ask: (question: Question) => call<Asked>('POST', '/api/v1/ask', posed(question)),
  actions: (question: Question) => call<Listed<ActionTold>>('POST', '/api/v1/actions', posed(question)),
  reach: (question: Question, after?: string) =>
    call<Listed<ReachTold>>('POST', '/api/v1/reach', { ...posed(question), beside: { limit: 100, ...(after ? { after } : {}) } }),
  holders: (question: Question, after?: string) =>
    call<Listed<HolderTold>>('POST', '/api/v1/holders', { ...posed(question), beside: { limit: 100, ...(after ? { after } : {}) } }),
  /** The classes of which everybody may, and how many may in all. */
  holdersCounted: (question: Question) =>
    call<Listed<HolderTold>>('POST', '/api/v1/holders', { ...posed(question), beside: { count: true } }),
}

/** A question as the service reads it; what is blank is left out. */
function posed(question: Question) {
  return {
    context: question.context,
    ...(Object.keys(question.ofSubject).length ? { 'subject-properties': question.ofSubject } : {}),
    ...(Object.keys(question.ofResource).length ? { 'resource-properties': question.ofResource } : {}),
    suppose: question.suppose,
    ...(question.token ? { token: question.token } : question.subject ? { subject: question.subject } : {}),
    ...(question.permission ? { permission: question.permission } : {}),
    ...(question.resource ? { resource: question.resource } : {}),
    ...(question.now ? { now: question.now } : {}),
    ...(question.draft ? { draft: question.draft } : {}),
    ...(question.wouldTake ? { 'would-take': true } : {}),
  }
}
