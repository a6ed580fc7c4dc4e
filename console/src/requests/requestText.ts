import type { AccessRequest } from './requestQueries'

/** Who asks, as people say it. */
export const whoAsks = (r: AccessRequest) => r.person?.name || r.address || 'somebody unknown'

/** For how long a request can be allowed. */
export const lengths: [string, number][] = [
  ['for an hour', 60],
  ['for four hours', 240],
  ['for a day', 1440],
  ['for a week', 10_080],
]

/** A length of time in minutes, as "3 min" or "2 h". */
export const waited = (minutes: number) =>
  minutes < 1 ? 'under a minute' : minutes < 90 ? `${Math.round(minutes)} min` : `${Math.round(minutes / 60)} h`

/** What became of several requests, in a sentence; undefined where all were answered. */
export function failedSaid(answered: { problem?: string }[]) {
  const problems = [...new Set(answered.flatMap((a) => a.problem ?? []))]
  if (problems.length === 0) return undefined
  const failed = answered.filter((a) => a.problem).length
  return `${failed} of ${answered.length} not answered: ${problems.join(' ')}`
}
