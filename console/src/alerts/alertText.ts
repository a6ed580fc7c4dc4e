import { count, formatNumber } from '../ui/format'
import type { Alert } from './alertQueries'

/** When an alert finds something, in words. */
export function alertText(a: Pick<Alert, 'what' | 'query' | 'more' | 'minutes' | 'per' | 'days'>): string {
  switch (a.what) {
    case 'gates':
      return `A gate has been silent or behind for ${count(a.minutes ?? 5, 'minute', 'minutes')}, drops records, or has a wrong clock.`
    case 'packs':
      return `A pack is older than ${count(a.days ?? 3, 'day', 'days')}, or an update waits.`
    case 'directories':
      return `A directory was last read longer than ${count(a.days ?? 3, 'day', 'days')} ago, or a change of one waits.`
    case 'expectations':
      return 'An expectation fails on what is live.'
    default:
      return `More than ${formatNumber(a.more ?? 0)} ${a.more === 1 ? 'request' : 'requests'}${a.per ? ` of one ${a.per}` : ''} in ${count(a.minutes ?? 10, 'minute', 'minutes')}${a.query ? ':' : '.'}`
  }
}
