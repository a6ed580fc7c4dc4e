/**
 * Moments are shown in the organisation's time zone, wherever the browser is, as days of schedules and exceptions begin by that clock.
 * The zone is set once, before anything is shown.
 */
let zone: string | undefined
let formats = new Map<string, Intl.DateTimeFormat>()

/** Sets the zone by its IANA name; a browser that does not know the zone uses its own. */
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

/** The zone in brackets if the browser's clock differs from the organisation's; otherwise "". */
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

/** "27 Nov, 14:10:05". */
export const formatClock = (instant: string) =>
  format(new Date(instant), { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit', second: '2-digit' })

/** "Fri 14:10". */
export const formatTime = (instant: string) =>
  format(new Date(instant), { weekday: 'short', hour: '2-digit', minute: '2-digit' })

/** "14:10"; on another day than now, "Fri 14:10". */
export const formatHour = (instant: string, now = new Date()) =>
  midnight(new Date(instant)).getTime() === midnight(now).getTime()
    ? format(new Date(instant), { hour: '2-digit', minute: '2-digit' })
    : formatTime(instant)

/** "Fri". */
export const formatWeekday = (at: number) => format(new Date(at), { weekday: 'short' })

/** The end of something: "through 27 Nov 2026" for a day, and otherwise "until 27 Nov 2026, 14:10". */
export function formatEnd(instant: string): string {
  const at = new Date(instant)
  return at.getTime() === midnight(at).getTime()
    ? `through ${format(new Date(at.getTime() - 1), { dateStyle: 'medium' })}`
    : `until ${formatMoment(instant)}`
}

/** The time on the clock at a moment, to the minute, in the form of a field: "2026-11-27T14:10". */
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

/** A day in the form "2026-11-27"; undefined if the calendar has no such day. */
export function wallDay(text: string): string | undefined {
  const day = text.trim()
  const at = new Date(`${day}T12:00Z`)
  return /^\d{4}-\d{2}-\d{2}$/.test(day) && !Number.isNaN(at.getTime()) && at.toISOString().startsWith(day)
    ? day
    : undefined
}

/** Reads a time of the clock, "2026-11-27 14:10", or a day, which means its beginning; undefined for any other text. */
export function wallMoment(text: string): string | undefined {
  const [, day = '', time = '00:00'] = /^(\S+?)(?:[T\s]+(\d{1,2}:\d{2}))?$/.exec(text.trim()) ?? []
  const padded = time.padStart(5, '0')
  return wallDay(day) && padded < '24:00' && padded.slice(3) < '60' ? `${day}T${padded}` : undefined
}

/** The moment at which the clock shows "2026-11-27T14:10": the first one if it shows it twice, the instant of the change if it never does. */
export function instantOf(wall: string): Date {
  const asUTC = (text: string) => Date.parse(`${text.slice(0, 16)}Z`)
  const want = asUTC(wall)
  const shown = (at: number) => asUTC(wallClock(new Date(at)))
  // Every offset is less than 26 hours, so only the offsets before and after that time can apply.
  const offsets = [-36, 36].map((hours) => shown(want + hours * 3600e3) - (want + hours * 3600e3))
  const found = offsets.map((offset) => want - offset).filter((at) => shown(at) === want)
  if (found.length > 0) return new Date(Math.min(...found))
  // The clock skips the time: the result is the first minute that shows a later one, between the moments that the two offsets give.
  let low = want - Math.max(...offsets)
  let high = want - Math.min(...offsets)
  while (high - low > 60e3) {
    const middle = low + Math.floor((high - low) / 120e3) * 60e3
    if (shown(middle) > want) high = middle
    else low = middle
  }
  return new Date(high)
}

/** The day, in the form "2026-11-27", a number of days after another. */
function dayLater(day: string, days: number): string {
  const at = new Date(`${day}T12:00Z`)
  at.setUTCDate(at.getUTCDate() + days)
  return at.toISOString().slice(0, 10)
}

/** The beginning of the day a number of days after that of a moment: midnight or, if the clock skips it, the instant of the change. */
export function midnight(at: Date, days = 0): Date {
  return instantOf(`${dayLater(wallClock(at).slice(0, 10), days)}T00:00`)
}

/** The beginnings of all days within a span of time. It counts days, so that it ends whatever the clock does. */
export function dayBegins(from: number, to: number): number[] {
  const begins: number[] = []
  let day = wallClock(new Date(from)).slice(0, 10)
  for (const last = dayLater(wallClock(new Date(to)).slice(0, 10), 1); day < last; day = dayLater(day, 1)) {
    const begin = instantOf(`${day}T00:00`).getTime()
    if (begin < to && begin !== begins.at(-1)) begins.push(begin)
  }
  return begins
}
