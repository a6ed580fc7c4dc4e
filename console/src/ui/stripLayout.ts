import { dayBegins } from './clock'

/** A stretch of time: what is needed to draw it. */
export type Stretch = { from: string; to: string }

/** The moments, by the organisation's clock, with which the days of a strip begin. Days are as long as the clock makes them. */
export const midnights = (first: Stretch, last: Stretch) => dayBegins(Date.parse(first.from), Date.parse(last.to))

/** Where a moment is on a strip, in hundredths of its length; what is before it is at its beginning. */
export function place(at: number, first: Stretch, last: Stretch): number {
  const from = Date.parse(first.from)
  return Math.max(0, ((at - from) / (Date.parse(last.to) - from)) * 100)
}

/** Whether the name of a day fits beside its midnight: not where most of the day is cut off, nor at the very end. */
export function fits(midnight: number, first: Stretch, last: Stretch): boolean {
  const hidden = Date.parse(first.from) - midnight
  return hidden <= 16 * 3600e3 && place(midnight, first, last) <= 95
}
