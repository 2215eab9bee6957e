/** The shapes the service answers in. */

export interface Problem {
  type: string
  title: string
  status: number
  detail: string
  errors?: { at: string; detail: string }[]
}

export interface SignedIn {
  key: string
  name: string
}

export interface Status {
  version: string
  started: string
  epoch: string
  position: number
  revision: Revision | null
  charter: string | null
  entities: number
  grants: number
  database: boolean
}

export interface Revision {
  number: number
  digest: string
  title: string
  author: string
  'created-at': string
}

export interface Change {
  position: number
  at: string
  actor: string
  kind: string
  lines: RegisterLine[]
}

export type RegisterLine = Record<string, unknown>

export interface Named {
  key: string
  name: string
  description: string
}

export interface TypeShown {
  key: string
  name: string
  application: string
  within: string[]
  actions: Named[]
}

export interface Model {
  applications: Named[]
  types: TypeShown[]
  roles: Named[]
  context: string[]
}

export type How = 'nothing' | 'gives' | 'included' | 'when' | 'taken-out'

export interface Cell {
  how: How
  text: string
  through: string[]
  conditions: string[]
}

export interface GridRow {
  role: string
  name: string
  description: string
  'given-to'?: string
  includes: string[]
  cells: Cell[]
}

export interface GridColumn {
  permission: string
  action: string
  description: string
  denies: string[]
  allows: string[]
}

export interface Grid {
  kind: string
  name: string
  actions: GridColumn[]
  roles: GridRow[]
}

export type Value3 = 'true' | 'false' | 'undetermined'

export interface Station {
  kind: 'subject' | 'group' | 'grant' | 'place' | 'role' | 'rule' | 'permission'
  name: string
  note?: string
  shut: boolean
}

export interface ConditionTold {
  of: string
  place: string
  text: string
  value: Value3
  because: string
  parts: { text: string; value: Value3; reads: [string, string][] }[]
}

export interface Explanation {
  allowed: boolean
  reason: string
  sentence: string
  way: Station[]
  arrivals: { role: string; how: string; grant?: string; gives: Value3; conditions: ConditionTold[] }[]
  rules: { key: string; effect: 'allow' | 'deny'; value: Value3; reaches: boolean; conditions: ConditionTold[] }[]
  'also-held': string[]
  ignored: string[]
  message?: string
  advice?: Record<string, string>
}

export interface Asked {
  explanation: Explanation
  supposed: number
  now: string
  revision: number
  position: number
}

export interface EntityShown {
  entity: RegisterLine & {
    entity: string
    attributes?: Record<string, unknown>
    relations?: Record<string, string[]>
  }
  groups: string[]
  grants: { grant: Record<string, unknown> }[]
  contents: string[]
  position: number
}

export interface Page {
  items: (RegisterLine & { entity: string })[]
  next: string | null
}

export interface Draft {
  id: string
  title: string
  base: number | null
  authors: string[]
  'saved-at': string
}

export interface DraftText {
  draft: Draft
  standing: {
    findings: { at: string; severity: 'error' | 'warning'; message: string; help: string | null }[]
    fits: boolean
    changes: { about: string; key: string; words: string; effect: 'wider' | 'narrower' | 'other' }[]
    unfit: string[]
  }
}

export interface Right {
  role: string
  at: string
}

export type Detail = 'none' | 'reason' | 'full'

export interface KeyShown {
  id: string
  application: string | null
  name: string
  until: string | null
  'last-used-at': string | null
  detail: Detail
  rights: Right[]
}

export interface KeyAsked {
  name: string
  application?: string
  until?: string
  detail: Detail
  rights: Right[]
}

export interface KeyMade {
  text: string
  key: KeyShown
}
