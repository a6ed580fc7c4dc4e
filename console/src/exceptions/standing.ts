import { midnight, wallClock } from '../ui/clock'
import type { Exception } from './exceptionQueries'
import type { View } from './views'

const week = 7 * 24 * 3600e3

/** Whether an exception belongs to a view at a moment. */
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
    case 'grants': // they are not exceptions
    case 'codes':
      return false
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

/** The lines of a text that are not blank. */
export const linesOf = (text: string) =>
  text
    .split('\n')
    .map((line) => line.trim())
    .filter((line) => line !== '')

/** The moments at which an exception may end, by name: midnights of the organisation's clock. The week ends with its Sunday. */
export function ends(now = new Date()) {
  const weekday = new Date(`${wallClock(now).slice(0, 10)}T12:00Z`).getUTCDay()
  return { today: midnight(now, 1), week: midnight(now, 8 - (weekday || 7)), month: midnight(now, 30) }
}

/** The end that an exception is offered first: the end of the week or, if the exception must last longer, the next one after that moment. */
export function endCovering(moment?: string, now = new Date()): 'week' | 'month' | 'never' {
  const at = moment ? Date.parse(moment) : now.getTime()
  const { week, month } = ends(now)
  if (at < week.getTime()) return 'week'
  return at < month.getTime() ? 'month' : 'never'
}
