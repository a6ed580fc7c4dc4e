import { afterEach, describe, expect, test } from 'vitest'
import {
  dayBegins,
  formatEnd,
  formatMoment,
  formatShort,
  instantOf,
  keepZone,
  midnight,
  wallClock,
  wallDay,
  wallMoment,
  zoneName,
} from './clock'

afterEach(() => keepZone(undefined))

describe('the clock', () => {
  test.each([
    ['Europe/London', '2026-07-01T00:30:00Z', '2026-07-01T01:30'],
    ['Pacific/Auckland', '2026-07-01T13:30:00Z', '2026-07-02T01:30'],
    ['America/St_Johns', '2026-01-01T01:00:00Z', '2025-12-31T21:30'],
    ['Asia/Kathmandu', '2026-11-27T18:15:00Z', '2026-11-28T00:00'],
  ])('of %s shows at %s %s, and back', (zone, instant, wall) => {
    keepZone(zone)
    expect(wallClock(new Date(instant))).toBe(wall)
    expect(instantOf(wall)).toEqual(new Date(instant))
  })

  test('that is put back shows a time twice: the first counts', () => {
    keepZone('Europe/London')
    expect(instantOf('2026-10-25T01:30').toISOString()).toBe('2026-10-25T00:30:00.000Z')
    keepZone('Pacific/Auckland')
    expect(instantOf('2026-04-05T02:30').toISOString()).toBe('2026-04-04T13:30:00.000Z')
  })

  test('that is put on skips times: the instant of the change counts', () => {
    keepZone('Europe/London')
    expect(instantOf('2026-03-29T01:30').toISOString()).toBe('2026-03-29T01:00:00.000Z')
    keepZone('Australia/Lord_Howe')
    expect(instantOf('2026-10-04T02:10').toISOString()).toBe('2026-10-03T15:30:00.000Z')
  })

  test('has days as long as it makes them', () => {
    keepZone('Europe/London')
    const first = midnight(new Date('2026-10-24T23:30:00Z'))
    expect(first.toISOString()).toBe('2026-10-24T23:00:00.000Z')
    expect(midnight(first, 1).getTime() - first.getTime()).toBe(25 * 3600e3)
    expect(midnight(new Date('2026-12-31T12:00:00Z'), 1).toISOString()).toBe('2027-01-01T00:00:00.000Z')
  })

  test('is that of the browser for a zone that it does not know', () => {
    const own = zoneName()
    keepZone('Atlantic/Wide_Lark')
    expect(zoneName()).toBe(own)
  })

  test('says moments, and ends by days', () => {
    keepZone('Europe/Paris')
    expect(formatMoment('2026-11-27T13:10:00Z')).toBe('27 Nov 2026, 14:10')
    expect(formatShort('2026-11-27T13:10:00Z')).toBe('Fri 27 Nov, 14:10')
    expect(formatEnd('2026-11-27T23:00:00Z')).toBe('through 27 Nov 2026')
    expect(formatEnd('2026-11-27T22:59:00Z')).toBe('until 27 Nov 2026, 23:59')
  })
})

const minute = 60e3
const day = 24 * 60 * minute
const shown = (at: number) => Date.parse(`${wallClock(new Date(at))}Z`)

/** The clock changes of the organisation's zone, found by bisecting the months whose ends have different offsets. */
function changes(fromYear: number, toYear: number): number[] {
  const found: number[] = []
  const offset = (at: number) => shown(at) - at
  for (let at = Date.UTC(fromYear, 0, 1); at < Date.UTC(toYear, 0, 1); at += 30 * day) {
    let [low, high] = [at, at + 30 * day]
    if (offset(low) === offset(high)) continue
    while (high - low > minute) {
      const middle = low + Math.floor((high - low) / 2 / minute) * minute
      if (offset(middle) === offset(low)) low = middle
      else high = middle
    }
    found.push(high)
  }
  return found
}

test('days begin, in every zone, when the clock first shows midnight or later', () => {
  const skipping = new Set<string>()
  for (const name of Intl.supportedValuesOf('timeZone')) {
    keepZone(name)
    for (const change of changes(2024, 2028)) {
      const hour = Number(wallClock(new Date(change)).slice(11, 13))
      if (hour > 2 && hour < 22) continue // the clock is moved by hours, and days begin at night
      const want = Date.parse(`${wallClock(new Date(change)).slice(0, 10)}T00:00Z`)
      let first = change - 5 * 60 * minute
      while (shown(first) < want) first += minute
      if (first > change - 5 * 60 * minute) {
        expect([name, midnight(new Date(first)).toISOString()]).toEqual([name, new Date(first).toISOString()])
        if (!wallClock(new Date(first)).endsWith('T00:00')) skipping.add(name)
      }
      const begins = dayBegins(change - 3 * day, change + 4 * day)
      expect(begins.length).toBeLessThan(10)
      expect(begins).toEqual([...begins].sort((a, b) => a - b))
    }
  }
  for (const name of ['America/Santiago', 'America/Havana', 'Asia/Beirut']) expect(skipping).toContain(name)
  keepZone('America/Santiago')
  expect(formatEnd('2026-09-06T04:00:00Z')).toBe('through 5 Sept 2026')
}, 180_000)

test('moments and days are read as people write them', () => {
  expect(wallMoment('2026-11-27 14:10')).toBe('2026-11-27T14:10')
  expect(wallMoment(' 2026-11-27T9:05 ')).toBe('2026-11-27T09:05')
  expect(wallMoment('2026-11-27')).toBe('2026-11-27T00:00')
  for (const none of [
    '',
    '27.11.2026',
    '2026-02-30',
    '2026-11-27 24:00',
    '2026-11-27 12:61',
    '2026-11-27 1210',
    'now',
  ]) {
    expect(wallMoment(none), none).toBeUndefined()
  }
  expect(wallDay('2028-02-29')).toBe('2028-02-29')
  expect(wallDay('2027-02-29')).toBeUndefined()
  expect(wallDay('2026-11-27 14:10')).toBeUndefined()
})
