import type { TimeWindow } from './scheduleQueries'

export const days = ['mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun'] as const
export const dayNames = ['Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday', 'Sunday']

/** The length of a cell of the grid in minutes, and the number of cells of a day. */
export const cellMinutes = 30
export const cellsADay = 48
const weekMinutes = 7 * 24 * 60

/** A week by minutes: whether each is in force. Windows that cross midnight continue on the next day; Sunday's on Monday. */
export function paint(windows: TimeWindow[]): boolean[] {
  const week = new Array<boolean>(weekMinutes).fill(false)
  for (const w of windows) {
    const long = w.end > w.start ? w.end - w.start : w.end + 1440 - w.start
    for (let m = 0; m < long; m++) week[(w.day * 1440 + w.start + m) % weekMinutes] = true
  }
  return week
}

/** The share of a cell that is in force: 0 to 1. */
export function share(week: boolean[], cell: number): number {
  let n = 0
  for (let m = cell * cellMinutes; m < (cell + 1) * cellMinutes; m++) if (week[m]) n++
  return n / cellMinutes
}

/** The week with some cells switched on or off. */
export function withCells(week: boolean[], from: number, to: number, on: boolean): boolean[] {
  const next = [...week]
  next.fill(on, Math.min(from, to) * cellMinutes, (Math.max(from, to) + 1) * cellMinutes)
  return next
}

const clock = (m: number) => `${String(Math.floor(m / 60)).padStart(2, '0')}:${String(m % 60).padStart(2, '0')}`

/** A week in the notation of schedules. A span of less than a day that crosses midnight is one window. */
export function writeWeek(week: boolean[]): string {
  const lines: string[] = days.map(() => '')
  if (week.every(Boolean)) return 'mon-sun 00:00-24:00'
  const windows: string[][] = days.map(() => [])
  let from = week.indexOf(false) // a minute outside every window, so that none is cut in two
  for (let i = 0; i < weekMinutes; ) {
    const at = (from + i) % weekMinutes
    if (!week[at]) {
      i++
      continue
    }
    let long = 0
    while (week[(at + long) % weekMinutes]) long++
    i += long
    let start = at
    while (long > 0) {
      const day = Math.floor(start / 1440)
      const minute = start % 1440
      const rest = 1440 - minute
      // To the end of the day, or past midnight if the window is then still shorter than a day.
      const part = long < 1440 && long > rest && long - rest <= minute ? long : Math.min(long, rest)
      windows[day]?.push(`${clock(minute)}-${part === rest ? '24:00' : clock((minute + part) % 1440)}`)
      start = (start + part) % weekMinutes
      long -= part
    }
  }
  from = 0
  for (const [day, all] of windows.entries()) lines[day] = all.sort().join(', ')
  const out: string[] = []
  for (let d = 0; d < 7; d++) {
    if (!lines[d] || lines.slice(0, d).includes(lines[d] ?? '')) continue
    const same = days.filter((_, i) => lines[i] === lines[d])
    const names: string[] = []
    for (let i = 0; i < 7; i++) {
      if (lines[i] !== lines[d]) continue
      let j = i
      while (j + 1 < 7 && lines[j + 1] === lines[d]) j++
      names.push(i === j ? (days[i] ?? '') : `${days[i]}-${days[j]}`)
      i = j
    }
    if (same.length > 0) out.push(`${names.join(', ')} ${lines[d]}`)
  }
  return out.join('\n')
}

/** A moment on the clock of a zone. */
export const formatIn = (instant: string, zone: string) =>
  new Intl.DateTimeFormat('en-GB', {
    weekday: 'short',
    day: 'numeric',
    month: 'short',
    hour: '2-digit',
    minute: '2-digit',
    timeZone: zone,
  }).format(new Date(instant))
