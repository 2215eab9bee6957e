import type { Property } from '../api/types'

/** The types an attribute can have. */
export const TYPES = ['text', 'integer', 'decimal', 'boolean', 'time', 'duration', 'address'] as const

/** Where they are read, in words. A token vouches for attributes of who bears it. */
export const SOURCES = {
  register: 'the register',
  request: 'the request',
  either: 'the register, else the request',
  token: 'a token',
  'register-or-token': 'the register, else a token',
} as const

/** An attribute or relation as a form holds it. */
export interface PropertyForm {
  key: string
  /** Of an attribute its type; of a relation the types it leads to, with commas. */
  kind: string
  many: boolean
  /** Empty: as it is where nothing is said. */
  from: '' | keyof typeof SOURCES
  /** Of an attribute, the only values it may have, with commas. */
  values: string
  /** Of an attribute, what it is where nothing states it. */
  fallback: string
  /** Of a relation: empty, not missing, where nothing states it. */
  empty: boolean
  across: boolean
}

export const blank = (kind: string): PropertyForm => ({
  key: '',
  kind,
  many: false,
  from: '',
  values: '',
  fallback: '',
  empty: false,
  across: false,
})

const parts = (text: string) =>
  text
    .split(',')
    .map((part) => part.trim())
    .filter(Boolean)
const shown = (value: unknown) => (Array.isArray(value) ? value.map(String).join(', ') : String(value))

/** A value as the charter writes it: numbers and booleans bare, all else as text. */
function written(text: string, kind: string): unknown {
  if (kind === 'boolean' && (text === 'true' || text === 'false')) return text === 'true'
  if ((kind === 'integer' || kind === 'decimal') && /^-?\d{1,15}(\.\d{1,9})?$/.test(text)) return Number(text)
  return text
}

function stated(form: PropertyForm): unknown {
  if (form.many) return form.fallback.trim() === '[]' ? [] : parts(form.fallback).map((part) => written(part, form.kind))
  return written(form.fallback.trim(), form.kind)
}

/** What stands in the charter for an attribute: the short form where it says all. */
export function attributeWritten(form: PropertyForm): unknown {
  const values = parts(form.values)
  const long = {
    type: form.kind,
    ...(form.many ? { many: true } : {}),
    ...(form.from ? { from: form.from } : {}),
    ...(values.length ? { values: values.map((value) => written(value, form.kind)) } : {}),
    ...(form.fallback.trim() ? { default: stated(form) } : {}),
  }
  return Object.keys(long).length === 1 ? form.kind : long
}

/** What stands in the charter for a relation. */
export function relationWritten(form: PropertyForm): unknown {
  const kinds = parts(form.kind)
  const to = kinds.length === 1 ? kinds[0] : kinds
  const long = {
    to,
    ...(form.many ? { many: true } : {}),
    ...(form.from ? { from: form.from } : {}),
    ...(form.empty ? { default: [] } : {}),
    ...(form.across ? { 'across-tenants': true } : {}),
  }
  return Object.keys(long).length === 1 ? to : long
}

/** The form of what is declared. `usual` is where it is read from where nothing is said. */
export function formOf(one: Property, usual: string): PropertyForm {
  const fallback =
    one.default === undefined || one.default === null ? '' : Array.isArray(one.default) && !one.default.length ? '[]' : shown(one.default)
  return {
    key: one.key,
    kind: one.kind,
    many: one.many,
    from: one.from === usual ? '' : (one.from as PropertyForm['from']),
    values: one.values ? shown(one.values) : '',
    fallback,
    empty: fallback === '[]',
    across: one['across-tenants'],
  }
}

/** What an attribute or relation is, in words. */
export function inWords(one: Property, usual: string, isRelation: boolean): string {
  const what = isRelation
    ? `${one.many ? 'any number of ' : ''}${one.kind.replaceAll(', ', ' or ')}`
    : `${one.many ? 'a list of ' : ''}${one.kind}`
  const said = [
    one.values && `one of ${one.values.map(String).join(', ')}`,
    one.from !== usual && `from ${SOURCES[one.from as keyof typeof SOURCES] ?? one.from}`,
    one.default !== undefined &&
      one.default !== null &&
      (Array.isArray(one.default) && !one.default.length
        ? 'empty where nothing states it'
        : `${shown(one.default)} where nothing states it`),
    one['across-tenants'] && 'also into other tenants',
  ]
  return [what, ...said.filter(Boolean)].join('; ')
}
