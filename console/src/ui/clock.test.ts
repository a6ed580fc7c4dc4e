import { afterEach, describe, expect, test } from 'vitest'
import { formatEnd, formatMoment, formatShort, instantOf, keepZone, midnight, wallClock, zoneName } from './clock'

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
