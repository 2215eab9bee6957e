/** The words of the interface, in one place. */
export const texts = {
  areas: { today: 'Today', roles: 'Roles', connect: 'Connect', try: 'Try', rollout: 'Roll out' },
  effects: { wider: 'more', narrower: 'less', other: 'other' },
  details: { none: 'the decision alone', reason: 'the reason code', full: 'the whole explanation' },
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
