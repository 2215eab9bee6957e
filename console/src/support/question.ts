import { readJson } from './json'

/** Questions as text: in the address, in the ask line, and in the context box. */

export interface Slots {
  subject: string
  permission: string
  resource: string
}

/** A permission from what stands in the action slot: `release` is about the resource's type. */
export function permissionOf(action: string, resource: string): string {
  const trimmed = action.trim()
  if (trimmed.includes(':') || !trimmed) return trimmed
  const type = resource.split(':')[0] ?? ''
  return type ? `${type}:${trimmed}` : trimmed
}

/** Which slot is still blank, in words; nothing if the question can be asked. */
export function blank(slots: Slots): string | undefined {
  if (!slots.subject.trim()) return 'Name a subject, such as user:ines.'
  if (!slots.permission.trim()) return 'Name a permission, such as manifest:release.'
  if (!slots.permission.includes(':')) return 'Name the resource too, or write the permission as type:action.'
  return undefined
}

/** Which slot is left blank, where that makes another question. */
export type Blank = 'holders' | 'reach' | 'actions'

/** What a question asks whose blank is meant: who may, with what, or what. */
export function blankOf(slots: Slots): Blank | undefined {
  const { subject, permission, resource } = slots
  if (!subject && permission.includes(':')) return 'holders'
  if (subject && !permission && resource) return 'actions'
  return subject && permission.includes(':') && !resource ? 'reach' : undefined
}

/** What an application says along with a question: its context, and of the subject and the resource. */
export interface Said {
  context: Record<string, unknown>
  ofSubject: Record<string, unknown>
  ofResource: Record<string, unknown>
}

/**
 * What is said along, from lines of key=value: numbers, booleans and lists where they read as such,
 * texts otherwise. `subject.` and `resource.` before a key say it of one of them.
 */
export function saidOf(text: string): Said & { wrong?: string } {
  const said: Said = { context: {}, ofSubject: {}, ofResource: {} }
  for (const line of text.split(/\n|,\s*(?=(?:subject\.|resource\.)?[a-z][a-z0-9-]*=)/)) {
    const trimmed = line.trim()
    if (!trimmed) continue
    const at = trimmed.indexOf('=')
    if (at < 1) return { ...said, wrong: `"${trimmed}" is not key=value.` }
    const [, root, key] = /^(?:(subject|resource)\.)?(.*)$/.exec(trimmed.slice(0, at).trim())!
    const of = root === 'subject' ? said.ofSubject : root === 'resource' ? said.ofResource : said.context
    of[key!] = valueOf(trimmed.slice(at + 1).trim())
  }
  return said
}

function valueOf(text: string): unknown {
  try {
    return readJson(text)
  } catch {
    return text.replace(/^'(.*)'$/, '$1')
  }
}
