import type { Right } from '../api/types'

/** `reader, grant-editor@tenant:northline` as rights; a role without a place is held everywhere. */
export function readRights(text: string): Right[] {
  const parts = text.split(',').map((part) => part.trim())
  return parts.filter(Boolean).map((part) => {
    const at = part.indexOf('@')
    return at < 0 ? { role: part, at: 'everywhere' } : { role: part.slice(0, at).trim(), at: part.slice(at + 1).trim() }
  })
}

/** The same, the other way round. */
export function tellRights(rights: Right[]): string {
  return rights.map((right) => (right.at === 'everywhere' ? right.role : `${right.role}@${right.at}`)).join(', ')
}
