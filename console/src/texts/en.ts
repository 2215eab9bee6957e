/** The words of the interface, in one place. */
export const texts = {
  areas: { today: 'Today', roles: 'Roles', try: 'Try' },
  marks: { true: 'true', false: 'false', undetermined: 'undetermined' },
  answers: { allowed: 'Allowed', denied: 'Denied' },
  cells: {
    nothing: '',
    gives: 'gives',
    included: 'through',
    when: 'only when',
    'taken-out': 'taken out',
  },
  stations: {
    subject: 'subject',
    group: 'group',
    grant: 'grant',
    place: 'place',
    role: 'role',
    rule: 'rule',
    permission: 'permission',
  },
} as const
