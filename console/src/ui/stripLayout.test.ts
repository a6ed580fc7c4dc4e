import { describe, expect, test } from 'vitest'
import { fits, midnights, place } from './stripLayout'

const week = { from: '2026-11-23T00:00:00', to: '2026-11-30T00:00:00' }
const late = { from: '2026-11-28T20:00:00', to: '2026-12-05T20:00:00' }
const hours = (n: number, of = week) => Date.parse(of.from) + n * 3600e3

describe('a strip', () => {
  test('has a midnight for every day that it touches', () => {
    expect(midnights(week, week)).toHaveLength(7)
    expect(midnights(late, late)).toHaveLength(8)
    expect(midnights(late, late)[0]).toBe(Date.parse('2026-11-28T00:00:00'))
  })

  test('puts moments where they are', () => {
    expect(place(hours(0), week, week)).toBe(0)
    expect(place(hours(84), week, week)).toBe(50)
    expect(place(hours(168), week, week)).toBe(100)
    expect(place(hours(-5), week, week)).toBe(0)
  })

  test('takes its length from its first and last part', () => {
    const first = { from: week.from, to: '2026-11-24T00:00:00' }
    const last = { from: '2026-11-29T00:00:00', to: week.to }
    expect(place(hours(84), first, last)).toBe(50)
    expect(midnights(first, last)).toHaveLength(7)
  })

  test('names a day only where the name has room', () => {
    const all = midnights(late, late)
    expect(fits(all[0] ?? 0, late, late)).toBe(false) // most of the day is over
    expect(fits(all[1] ?? 0, late, late)).toBe(true)
    expect(fits(Date.parse('2026-12-05T18:00:00'), late, late)).toBe(false) // at the end
  })
})
