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

/**
 * A context from lines of key=value: numbers, booleans and lists where they read as such, texts
 * otherwise.
 */
export function contextOf(text: string): { context: Record<string, unknown>; wrong?: string } {
  const context: Record<string, unknown> = {}
  for (const line of text.split(/\n|,\s*(?=[a-z][a-z0-9-]*=)/)) {
    const trimmed = line.trim()
    if (!trimmed) continue
    const at = trimmed.indexOf('=')
    if (at < 1) return { context, wrong: `"${trimmed}" is not key=value.` }
    context[trimmed.slice(0, at).trim()] = valueOf(trimmed.slice(at + 1).trim())
  }
  return { context }
}

function valueOf(text: string): unknown {
  try {
    return JSON.parse(text)
  } catch {
    return text.replace(/^'(.*)'$/, '$1')
  }
}
