import type { Change, EntityLine, RegisterLine } from '../api/types'

/** How keys are written. */
export const KEY = /^[a-z][a-z0-9-]{0,63}$/

/** A moment as a person reads it: the day and the time, in the reader's own zone. */
export function moment(iso: string): string {
  const at = new Date(iso)
  if (Number.isNaN(at.getTime())) return iso
  return at.toLocaleString(undefined, { dateStyle: 'medium', timeStyle: 'medium' })
}

/** `1 grant`, `2 grants`. */
export function counted(count: number, one: string, many = `${one}s`): string {
  return `${count.toLocaleString('en')} ${count === 1 ? one : many}`
}

/** A stretch of time as people say it: `2 hours`, `45 minutes`. */
export function lasting(seconds: number): string {
  if (seconds % 86_400 === 0) return counted(seconds / 86_400, 'day')
  if (seconds % 3_600 === 0) return counted(seconds / 3_600, 'hour')
  return seconds % 60 === 0 ? counted(seconds / 60, 'minute') : counted(seconds, 'second')
}

/** What a change did, in one sentence; of one that did much, first what it did to `about`. */
export function told(change: Change, about?: string): string {
  const note = change.lines.find((line) => 'note' in line)?.note
  // The numbers that are given next are the journal's own.
  const lines = change.lines.filter((line) => !['note', 'next'].includes(Object.keys(line).join()))
  const names = (line: RegisterLine) => about && JSON.stringify(line).includes(JSON.stringify(about))
  const [first, ...more] = [...lines.filter(names), ...lines.filter((line) => !names(line))]
  if (!first) return change.kind
  const left = more.length + Math.max((change.count ?? 0) - change.lines.length, 0)
  const rest = left ? `, and ${counted(left, 'line')} more` : ''
  return lineTold(first) + rest + (note ? `: ${String(note)}` : '')
}

export function lineTold(line: RegisterLine): string {
  const grant = line.grant as Record<string, string> | undefined
  if (grant) return `${grant.role} given to ${grant.to} at ${grant.at}`
  if (line['end-grant']) return `grant ${line['end-grant']} ended`
  if (line.delete) return `${line.delete} deleted`
  if (line.entity) return `${line.entity} described`
  const activation = line.activation as Record<string, string> | undefined
  if (activation) return `grant ${activation.grant} activated for ${activation.subject}`
  if (line['end-activation']) return `activation ${line['end-activation']} ended`
  const role = line['tenant-role'] as Record<string, string> | undefined
  if (role) return `role ${role.key} made by ${role.tenant}`
  if (line['end-tenant-role']) return `role ${line['end-tenant-role']} ended`
  if (line.rollout) {
    const forWhom = Array.isArray(line.for) ? ` for ${(line.for as string[]).join(', ')}` : ''
    return line.back ? `back to revision ${line.rollout}${forWhom}` : `revision ${line.rollout} went live${forWhom}`
  }
  if (line.review)
    return line.voided
      ? `approvals of ${line.review} are void: ${line.why}`
      : `${line.review} ${line.verdict === 'approve' ? 'approved' : 'returned'}`
  if (line.draft && line.comment) return `a remark on D-${line.draft}`
  if (line.draft && line.revision) return `draft D-${line.draft} is revision ${line.revision}`
  if (line.revision) return line.barred ? `revision ${line.revision} shut for good` : `revision ${line.revision} approved`
  if (line.settings)
    return line.ended
      ? `settings S-${line.settings}: ${line.ended}`
      : `settings S-${line.settings} ${line['in-force'] ? 'in force' : 'put, and waiting'}`
  if (line.shadow) return line.ended ? `shadow ${line.shadow}: ${line.ended}` : `shadow of revision ${line.revision} begun`
  if (line.draft)
    return line.restored
      ? `draft D-${line.draft} taken back`
      : line.discarded
        ? `draft D-${line.draft} discarded`
        : `draft D-${line.draft} saved: ${line.saved}`
  if (line.rehearsal) return line.found ? `rehearsal ${line.rehearsal}: ${line.found}` : `rehearsal ${line.rehearsal} of ${line.of} begun`
  if (line['rehearsal-text']) return 'the rehearsal’s files saved'
  if (line.case) return line['taken-away'] ? `case ${line.case} taken away` : `case kept: ${line.kept}`
  if (line['end-key']) return line.until ? `key ${line['end-key']} counts until ${line.until}` : `key ${line['end-key']} ended`
  if (line.issuer) return `issuer ${line.issuer} set up: ${line.iss}`
  if (line['end-issuer']) return `issuer ${line['end-issuer']} ended`
  if (line.key) return `${line.kind === 'operator' ? "operator's" : "application's"} key ${line.key} made for ${line.name}`
  return 'changed'
}

/** What is said of an entity, on one line. */
export function saidOfEntity(line: EntityLine): string {
  const parts = Object.entries(line).flatMap(([key, value]) => {
    if (key === 'entity') return []
    if (key === 'attributes' || key === 'relations')
      return Object.entries(value as Record<string, unknown>).map(([name, one]) => `${name} ${String(one)}`)
    if (key === 'member-count') return [counted(Number(value), 'member')]
    return [`${key} ${String(value)}`]
  })
  return parts.join(', ')
}
