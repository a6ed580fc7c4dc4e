import type { Exception } from '../policies/policyQueries'
import type { View } from './views'

const week = 7 * 24 * 3600e3

/** Whether an exception stands as a view shows it, at a moment. */
export function inView(view: View, e: Pick<Exception, 'state' | 'until'>, now = Date.now()): boolean {
  switch (view) {
    case 'in-force':
      return e.state === 'in force'
    case 'soon':
      return e.state === 'in force' && e.until !== undefined && Date.parse(e.until) - now < week
    case 'later':
      return e.state === 'later'
    case 'over':
      return e.state === 'over' || e.state === 'off'
  }
  return true
}

/** For whom an exception is, in a few words. */
export const whomSaid = (e: Pick<Exception, 'for'>) =>
  [
    ...(e.for.everybody ? ['everybody'] : []),
    ...[...(e.for.persons ?? []), ...(e.for.groups ?? []), ...(e.for.networks ?? [])].map((r) => r.name ?? ''),
    ...(e.for.addresses ?? []),
  ].join(', ')

/** The moments at which an exception may end, by name: midnights of this browser's clock. The week ends with its Sunday. */
export function ends(now = new Date()) {
  const midnight = (days: number) => new Date(now.getFullYear(), now.getMonth(), now.getDate() + days)
  return { today: midnight(1), week: midnight(8 - (now.getDay() || 7)), month: midnight(30) }
}

/** A moment as a field for it wants it: by this browser's clock, to the minute. */
export function local(at: Date): string {
  const two = (n: number) => String(n).padStart(2, '0')
  return `${at.getFullYear()}-${two(at.getMonth() + 1)}-${two(at.getDate())}T${two(at.getHours())}:${two(at.getMinutes())}`
}
