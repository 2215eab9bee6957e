import type { Edit, RoleShown } from '../api/types'
import { lasting } from './words'

/** A role as a form holds it. */
export interface RoleForm {
  name: string
  description: string
  includes: string[]
  heldBy: string[]
  /** Where it may be granted; empty: anywhere. */
  heldAt: string[]
  grantable: boolean
  givenTo: string
  when: string
  onStandby: boolean
  longest: string
  standbyWhen: string
  reason: boolean
  bySelf: boolean
}

/** A stretch of time as the charter writes it. */
export function stretch(seconds: number): string {
  const units: [string, number][] = [
    ['d', 86_400],
    ['h', 3_600],
    ['m', 60],
    ['s', 1],
  ]
  let left = seconds
  let text = ''
  for (const [unit, size] of units) {
    const count = Math.floor(left / size)
    if (count) text += `${count}${unit}`
    left -= count * size
  }
  return text || '0s'
}

export function formOf(role: RoleShown): RoleForm {
  return {
    name: role.name === role.key ? '' : role.name,
    description: role.description,
    includes: [...role.includes],
    heldBy: [...role['held-by']],
    heldAt: [...(role['held-at'] ?? [])],
    grantable: role.grantable,
    givenTo: role['given-to'] ?? '',
    when: role.when ?? '',
    onStandby: Boolean(role.standby),
    longest: role.standby ? stretch(role.standby.longest) : '1h',
    standbyWhen: role.standby?.when ?? '',
    reason: role.standby?.reason ?? true,
    bySelf: role.standby?.['by-self'] ?? false,
  }
}

const alike = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b)
const sorted = (list: string[]) => [...list].sort()
const usual = (heldBy: string[]) => alike(sorted(heldBy), ['user'])

function standby(form: RoleForm): unknown {
  if (!form.onStandby) return undefined
  return {
    longest: form.longest.trim(),
    ...(form.standbyWhen.trim() ? { when: form.standbyWhen.trim() } : {}),
    ...(form.reason ? { reason: true } : {}),
    ...(form.bySelf ? { self: true } : {}),
  }
}

/** What of a form differs from the role, as changes of the text: what stays is not written anew. */
export function editsOf(role: RoleShown, form: RoleForm): Edit[] {
  const before = formOf(role)
  const written: [string, unknown, unknown][] = [
    ['name', before.name, form.name.trim()],
    ['description', before.description, form.description.trim()],
    ['includes', sorted(before.includes), sorted(form.includes)],
    ['held-by', sorted(before.heldBy), sorted(form.heldBy)],
    ['held-at', sorted(before.heldAt), sorted(form.heldAt)],
    ['grantable', before.grantable, form.grantable],
    ['given-to', before.givenTo, form.givenTo],
    ['when', before.when, form.when.trim()],
    ['standby', standby(before), standby(form)],
  ]
  const value = (key: string, now: unknown) => {
    if (key === 'grantable') return now ? undefined : false
    if (key === 'held-by') return usual(now as string[]) ? undefined : now
    return now === '' || alike(now, []) ? undefined : now
  }
  return written
    .filter(([, then, now]) => !alike(then, now))
    .map(([key, , now]) => ({ path: ['role', role.key, key], value: value(key, now) }))
}

/** Who may hold a role, where, and on what terms: one sentence each. */
export function termsOf(role: RoleShown): string[] {
  const given: Record<string, string> = {
    anyone: 'Given to anyone',
    'signed-in': 'Given to everyone signed in',
    members: 'Given to the members of the resource’s tenant',
  }
  const kinds = role['held-by'].map((kind) => `${kind}s`).join(' and ')
  const at = role['held-at']
  const values = role.values.map((one) => `${one.key} (${one.kind})`).join(', ')
  const terms = role.standby
  const standbyWords = terms
    ? [
        `Its grants are on standby, activated for at most ${lasting(terms.longest)} at a time`,
        terms.when && `while ${terms.when}`,
        terms.reason && 'with a reason',
        terms['by-self'] && 'by its holder too',
      ]
    : []
  return [
    role['given-to'] ? `${given[role['given-to']]}, without a grant.` : '',
    role.grantable ? `Held by ${kinds}${at ? `, granted at ${at.join(', ')}` : ''}.` : 'Never granted: it is only conferred.',
    values ? `Each grant of it names ${values}.` : '',
    terms ? `${standbyWords.filter(Boolean).join(', ')}.` : '',
  ].filter(Boolean)
}
