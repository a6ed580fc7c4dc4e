/**
 * Moments are said by the organisation's clock, wherever the browser is: the days of schedules and exceptions begin there.
 * The zone is kept once, before anything is shown.
 */
let zone: string | undefined
let formats = new Map<string, Intl.DateTimeFormat>()

/** Sets the zone, by its IANA name; a browser that does not know it goes by its own. */
export function keepZone(name: string | undefined) {
  try {
    new Intl.DateTimeFormat('en-GB', { timeZone: name })
    zone = name
  } catch {
    zone = undefined
  }
  formats = new Map()
}

/** The name of the zone. */
export const zoneName = () => zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone

/** The zone in brackets, where the browser goes by another clock; else nothing. */
export const zoneNote = () => {
  const own = Intl.DateTimeFormat().resolvedOptions().timeZone
  return zone === undefined || zone === own ? '' : ` (${zone})`
}

function format(at: Date, options: Intl.DateTimeFormatOptions): string {
  const key = JSON.stringify(options)
  let known = formats.get(key)
  if (!known) {
    known = new Intl.DateTimeFormat('en-GB', { ...options, timeZone: zone })
    formats.set(key, known)
  }
  return known.format(at)
}

/** "27 Nov 2026, 14:10". */
export const formatMoment = (instant: string) => format(new Date(instant), { dateStyle: 'medium', timeStyle: 'short' })

/** "Fri 27 Nov, 14:10". */
export const formatShort = (instant: string) =>
  format(new Date(instant), { weekday: 'short', day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' })

/** "Fri 14:10". */
export const formatTime = (instant: string) =>
  format(new Date(instant), { weekday: 'short', hour: '2-digit', minute: '2-digit' })

/** "Fri". */
export const formatWeekday = (at: number) => format(new Date(at), { weekday: 'short' })

/** When something ends: "through 27 Nov 2026" where it is a day, else "until 27 Nov 2026, 14:10". */
export function formatEnd(instant: string): string {
  const at = new Date(instant)
  return wallClock(at).endsWith('T00:00')
    ? `through ${format(new Date(at.getTime() - 1), { dateStyle: 'medium' })}`
    : `until ${formatMoment(instant)}`
}

/** What the clock shows at a moment, to the minute, as a field for it wants it: "2026-11-27T14:10". */
export function wallClock(at: Date): string {
  const shown = format(at, {
    year: 'numeric',
    month: '2-digit',
    day: '2-digit',
    hour: '2-digit',
    minute: '2-digit',
    hourCycle: 'h23',
  })
  const [, day, month, year, time] = /^(\d+)\/(\d+)\/(\d+), (.+)$/.exec(shown) ?? []
  return `${year}-${month}-${day}T${time}`
}

/** The moment at which the clock shows "2026-11-27T14:10": the first where it does so twice, the instant of the change where it does not. */
export function instantOf(wall: string): Date {
  const asUTC = (text: string) => Date.parse(`${text.slice(0, 16)}Z`)
  const want = asUTC(wall)
  // The clock is at most a day from UTC; a change moves it between the two.
  const offsets = [-24, 24].map((hours) => {
    const near = want + hours * 3600e3
    return asUTC(wallClock(new Date(near))) - near
  })
  const found = offsets.map((offset) => want - offset).filter((at) => asUTC(wallClock(new Date(at))) === want)
  if (found.length > 0) return new Date(Math.min(...found))
  // Skipped: the first minute that shows more.
  let [low, high] = [want - 24 * 3600e3, want + 24 * 3600e3]
  while (high - low > 60e3) {
    const middle = low + Math.floor((high - low) / 120e3) * 60e3
    if (asUTC(wallClock(new Date(middle))) > want) high = middle
    else low = middle
  }
  return new Date(high)
}

/** The midnight with which a day begins, so many days after that of a moment. */
export function midnight(at: Date, days = 0): Date {
  const day = new Date(`${wallClock(at).slice(0, 10)}T12:00Z`)
  day.setUTCDate(day.getUTCDate() + days)
  return instantOf(`${day.toISOString().slice(0, 10)}T00:00`)
}
