import { describe, expect, test } from 'vitest'
import { wallClock } from '../ui/clock'
import { endCovering, ends, inView, whomSaid } from './standing'
import { exceptionViews } from './views'

const now = Date.parse('2026-11-23T12:00:00Z')
const views = (state: 'in force' | 'later' | 'over' | 'off', until?: string) =>
  exceptionViews.filter((v) => inView(v, { state, until }, now))

describe('exceptions', () => {
  test('stand in the views that are for them', () => {
    expect(views('in force')).toEqual(['in-force', 'all'])
    expect(views('in force', '2026-11-28T00:00:00Z')).toEqual(['in-force', 'soon', 'all'])
    expect(views('in force', '2026-12-28T00:00:00Z')).toEqual(['in-force', 'all'])
    expect(views('later', '2026-11-28T00:00:00Z')).toEqual(['later', 'all'])
    expect(views('over', '2026-11-01T00:00:00Z')).toEqual(['over', 'all'])
    expect(views('off')).toEqual(['over', 'all'])
  })

  test('say for whom they are', () => {
    expect(whomSaid({ for: { everybody: true } })).toBe('everybody')
    expect(
      whomSaid({
        for: {
          persons: [{ id: 'a', name: 'Kay Moran' }],
          groups: [{ id: 'b', name: 'Nurses' }],
          networks: [{ id: 'c', name: 'Wards' }],
          addresses: ['10.40.9.7'],
        },
      }),
    ).toBe('Kay Moran, Nurses, Wards, 10.40.9.7')
  })

  test.each([
    [new Date(2026, 10, 23, 14), '2026-11-24T00:00', '2026-11-30T00:00'], // Monday
    [new Date(2026, 10, 28, 14), '2026-11-29T00:00', '2026-11-30T00:00'], // Saturday
    [new Date(2026, 10, 29, 14), '2026-11-30T00:00', '2026-11-30T00:00'], // Sunday
    [new Date(2026, 11, 31, 23), '2027-01-01T00:00', '2027-01-04T00:00'],
  ])('on %s end with the day or with the Sunday', (at, today, week) => {
    expect(wallClock(ends(at).today)).toBe(today)
    expect(wallClock(ends(at).week)).toBe(week)
    expect(ends(at).month.getTime()).toBeGreaterThan(ends(at).week.getTime())
  })

  test('are offered an end after the moment for which they are made', () => {
    const friday = new Date('2026-11-27T12:00:00Z')
    expect(endCovering(undefined, friday)).toBe('week')
    expect(endCovering('2026-11-29T14:10:00Z', friday)).toBe('week')
    expect(endCovering('2026-12-01T14:10:00Z', friday)).toBe('month')
    expect(endCovering('2027-12-01T14:10:00Z', friday)).toBe('never')
  })
})
