import { dayBegins } from './clock'

/** A span of time to be drawn. */
export type Stretch = { from: string; to: string }

/** The beginnings of the days of a strip, by the organisation's clock. A day with a clock change is longer or shorter. */
export const midnights = (first: Stretch, last: Stretch) => dayBegins(Date.parse(first.from), Date.parse(last.to))

/** The position of a moment on a strip, in per cent of its length; moments before the strip are at 0. */
export function place(at: number, first: Stretch, last: Stretch): number {
  const from = Date.parse(first.from)
  return Math.max(0, ((at - from) / (Date.parse(last.to) - from)) * 100)
}

/** Whether the name of a day fits beside its midnight: not if most of the day is cut off, nor at the end of the strip. */
export function fits(midnight: number, first: Stretch, last: Stretch): boolean {
  const hidden = Date.parse(first.from) - midnight
  return hidden <= 16 * 3600e3 && place(midnight, first, last) <= 95
}
