import type { Role } from './accountQueries'

export type RoleName = Role['role']

/** What can bound a role. */
export type Bounds = 'groups' | 'lists' | undefined

/** The roles, those with fewer rights first: what each is for, and what can bound it. */
export const roleNames: { role: RoleName; says: string; bounds: Bounds }[] = [
  { role: 'reader', says: 'reads the configuration and tries URLs', bounds: undefined },
  { role: 'lead', says: 'sees and steers groups, and answers what their members ask for', bounds: 'groups' },
  { role: 'help desk', says: 'answers requests, makes grants and codes, reads the journal', bounds: 'groups' },
  { role: 'auditor', says: 'reads everything, with names, and who did what', bounds: undefined },
  { role: 'publisher', says: 'puts the draft live, plans that, takes it back', bounds: 'lists' },
  { role: 'editor', says: 'edits the draft; for some lists, their entries alone', bounds: 'lists' },
  {
    role: 'owner',
    says: 'may do everything; alone edits the baseline, accounts, keys, gates and what is kept',
    bounds: undefined,
  },
]

const day = 24 * 60

/** A length of time in minutes, in words. */
export function lengthSaid(minutes: number) {
  const [n, unit] =
    minutes % day === 0 ? [minutes / day, 'day'] : minutes % 60 === 0 ? [minutes / 60, 'hour'] : [minutes, 'minute']
  return n === 1 ? `1 ${unit}` : `${n} ${unit}s`
}

/** A role with its bounds in a few words, as "lead of Trainees". */
export function roleSaid(r: Role) {
  const within = [...(r.groups ?? []), ...(r.lists ?? [])].map((ref) => ref.name || 'something that is gone')
  const most = [r.reach && `a ${r.reach}`, r.minutes && lengthSaid(r.minutes)].filter(Boolean).join(', ')
  const of = within.length > 4 ? `${within.slice(0, 3).join(', ')} and ${within.length - 3} more` : within.join(', ')
  return `${r.role}${of && ` of ${of}`}${most && `; grants at most ${most}`}`
}
