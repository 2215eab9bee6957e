/**
 * The shapes the service answers in, from its own description of itself. What the description can
 * only call a text or an object is told more narrowly here.
 */
import type { Shift } from '../support/rehearsed'
import type { components } from './schema'

type S = components['schemas']
type Narrow<T, N> = Omit<T, keyof N> & N

export type Problem = S['Problem']
export type SignInWith = components['schemas']['SignInWith']
export type Renewed = components['schemas']['Renewed']
export type SignedIn = S['SignedIn']
export type Status = S['Status']
export type Revision = S['RevisionShown']
export type RevisionText = S['RevisionText']
export type Live = S['LiveShown']
export type Step = S['StepShown']
export type Released = Narrow<S['ReleasedShown'], { shift: Shift }>
export type ToAccept = Narrow<S['ToAccept'], { kind: 'gain' | 'loss' | 'guarantee' | 'check' }>
export type Review = Narrow<S['ReviewShown'], { 'to-accept': ToAccept[] }>
export type Waiting = S['Waiting']
export type Settings = S['SettingsShown']
export type SettingsChange = S['SettingsChange']
export type NodeShown = S['NodeShown']
export type Shadow = S['ShadowShown']
export type DifferenceGroup = Narrow<
  S['DifferenceGroup'],
  { questions: Narrow<S['DifferenceShown'], { said: { context?: Record<string, unknown> } }>[] }
>
export type File = S['File']

export type RegisterLine = Record<string, unknown>
export type Change = Narrow<S['ChangeShown'], { lines: RegisterLine[]; count?: number; digest?: string }>
export type Written = Narrow<S['Written'], { changed: RegisterLine[] }>

export type Model = S['Model']
export type TypeShown = S['TypeShown']
export type Property = S['Property']
export type RoleShown = S['RoleShown']
export type RuleShown = Narrow<S['RuleShown'], { effect: 'allow' | 'deny' }>
export type Grid = S['Grid']
export type GridRow = S['Row']
export type Cell = S['Cell']
export type How = Cell['how']
export type Reached = S['RoleReach']

export type Value3 = 'true' | 'false' | 'undetermined'
export type StationKind = 'subject' | 'group' | 'grant' | 'place' | 'role' | 'rule' | 'permission'
export type Station = Narrow<S['Station'], { kind: StationKind; note?: string }>
export type ConditionTold = Narrow<
  S['ConditionTold'],
  { value: Value3; parts: Narrow<S['PartTold'], { value: Value3; reads: [string, string][] }>[] }
>
export type RuleTold = Narrow<S['RuleTold'], { effect: 'allow' | 'deny'; value: Value3; conditions: ConditionTold[] }>
export type ArrivalTold = Narrow<S['Arrival'], { gives: Value3; conditions: ConditionTold[] }>
export type Explanation = Narrow<
  S['Explanation'],
  { way: Station[]; arrivals: ArrivalTold[]; rules: RuleTold[]; advice?: Record<string, string> }
>
export type Take = Narrow<S['Take'], { ways: Proposal[][] }>
/** One change that could be made; what is sent along comes as a name and a value. */
export interface Proposal {
  words: string
  fact?: string
  context?: [string, unknown]
  property?: [string, unknown]
}
export type Asked = Narrow<S['AskAnswer'], { explanation: Explanation; 'would-take'?: Take | null }>
/** The answer to a question with a blank. */
export interface Listed<T> {
  items: T[]
  whole: boolean
  next?: string
  /** Whether what is not registered yet is meant too. */
  new?: boolean
  /** Of subjects: how many there are in all, where they were counted. */
  total?: number
  /** What the list does not know. */
  note?: string
}
export interface ActionTold {
  permission: string
  answer: 'allowed' | 'denied'
  reason: string
  description: string
}
export interface ReachTold {
  resource: string
  reason: string
}
export interface HolderTold {
  who: string
  reason: string
  through?: string
}
export type AskedLately = S['AskedLately']
export type Presence = S['PresenceShown']
export type RehearsalText = S['RehearsalText']
export type Ran = Narrow<S['RunShown'], { progress?: [number, number]; state: 'running' | 'held' | 'failed' | 'broken-off' }>
export type CaseAsked = S['CaseAsked']
export type CaseShown = Narrow<S['CaseShown'], { case: KeptCase }>
export interface KeptCase {
  name: string
  as: string
  on?: string
  may?: string[]
  'may-not'?: string[]
  context?: Record<string, unknown>
  now?: string
  because?: string
}

export type EntityLine = RegisterLine & {
  entity: string
  attributes?: Record<string, unknown>
  relations?: Record<string, string[]>
  members?: string[]
  'member-count'?: number
}
export interface GrantLine {
  id: string
  role: string
  to: string
  at: string
  from?: string
  until?: string
  values?: Record<string, unknown[]>
}
export type EntityShown = Narrow<S['EntityShown'], { entity: EntityLine; grants: { grant: GrantLine }[] }>
export interface Page<T = EntityLine> {
  items: T[]
  next?: string | null
}
export type Members = S['Members']
export type Around = S['Around']
export type Standing = 'counts' | 'later' | 'ended' | 'standby' | 'active' | 'idle'
export type Holding = Narrow<S['Holding'], { grant: GrantLine; standing: Standing }>
export type Holdings = Narrow<S['Holdings'], { items: Holding[] }>
export interface ActivationLine {
  id: string
  grant: string
  subject: string
  session?: string
  from?: string
  until?: string
  reason?: string
}
export interface TenantRoleLine {
  tenant: string
  key: string
  permissions: string[]
}

export type Draft = S['DraftShown']
export type Finding = Narrow<S['FindingShown'], { severity: 'error' | 'warning' }>
export type ChangeOfText = Narrow<S['ChangeOfText'], { effect: 'wider' | 'narrower' | 'other' }>
export type DraftStanding = Narrow<S['Standing'], { findings: Finding[]; changes: ChangeOfText[] }>
export type DraftText = Narrow<S['DraftText'], { standing: DraftStanding }>
export type Defined = S['DefinedShown']
export type Checked = Narrow<S['Checked'], { standing: DraftStanding }>
export type Imported = S['Imported']
export type ImportPiece = S['ImportPiece']
export type Suggested = S['Suggested']
/** One change of a text by its parts. */
export interface Edit {
  path: string[]
  value?: unknown
  add?: string
  remove?: string
}

export interface Right {
  role: string
  at: string
}
export type Detail = 'none' | 'reason' | 'full'
export type HeaderPair = S['HeaderPair']
export type KeyShown = Narrow<S['KeyShown'], { detail: Detail; rights: Right[] }>
export type KeyAsked = Narrow<S['KeyAsked'], { detail: Detail; rights: Right[] }>
export type IssuerShown = S['IssuerShown']
export type IssuerAsked = Omit<S['IssuerAsked'], 'keys'> & { keys?: string }
export type Attempted = S['Attempted']
export type TokenRead = Narrow<S['TokenRead'], { header: Record<string, unknown>; claims: Record<string, unknown> }>
export type RouteTold = S['RouteTold']
export type KeyMade = Narrow<S['KeyMade'], { key: KeyShown }>
