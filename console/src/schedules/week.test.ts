import { describe, expect, test } from 'vitest'
import { cellsADay, paint, share, withCells, writeWeek } from './week'

const at = (day: number, start: number, end: number) => ({ day, start: start * 60, end: end * 60 })

describe('a week', () => {
  test.each([
    ['mon 09:00-17:00', [at(0, 9, 17)]],
    ['mon-fri 09:00-12:00, 13:00-17:00', [0, 1, 2, 3, 4].flatMap((d) => [at(d, 9, 12), at(d, 13, 17)])],
    ['mon, wed 09:00-10:00\ntue 11:00-12:00', [at(0, 9, 10), at(1, 11, 12), at(2, 9, 10)]],
    ['fri 20:00-08:00', [at(4, 20, 8)]],
    ['sun 22:00-02:00', [at(6, 22, 2)]],
    ['mon 00:00-24:00', [at(0, 0, 24)]],
    ['mon-sun 00:00-24:00', [0, 1, 2, 3, 4, 5, 6].map((d) => at(d, 0, 24))],
    ['', []],
  ])('%s is written as it is painted', (text, windows) => {
    expect(writeWeek(paint(windows))).toBe(text)
  })

  test('what overlaps is one', () => {
    expect(writeWeek(paint([at(0, 9, 12), at(0, 11, 14)]))).toBe('mon 09:00-14:00')
  })

  test('cells are switched on and off in either direction', () => {
    const nine = 18
    const on = withCells(paint([]), nine + 1, nine, true)
    expect(writeWeek(on)).toBe('mon 09:00-10:00')
    expect(share(on, nine)).toBe(1)
    expect(share(on, nine + 2)).toBe(0)
    expect(writeWeek(withCells(on, nine, nine, false))).toBe('mon 09:30-10:00')
    expect(writeWeek(withCells(on, cellsADay + nine, cellsADay + nine, true))).toBe('mon 09:00-10:00\ntue 09:00-09:30')
  })

  test('a window that begins within a cell fills a part of it', () => {
    expect(share(paint([{ day: 0, start: 555, end: 600 }]), 18)).toBe(0.5)
  })

  test('painting what is written gives the same week, whatever was painted', () => {
    let seed = 7
    const random = (n: number) => {
      seed = (seed * 1103515245 + 12345) % 2 ** 31
      return seed % n
    }
    for (let round = 0; round < 50; round++) {
      let week = paint([])
      for (let i = 0; i < 6; i++) week = withCells(week, random(7 * cellsADay), random(7 * cellsADay), random(3) > 0)
      expect(read(writeWeek(week))).toEqual(week)
    }
  })
})

/** Reads what writeWeek writes; the service reads the whole notation. */
function read(text: string): boolean[] {
  const days = ['mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun']
  const windows = text.split('\n').flatMap((line) => {
    const [, names = '', times = ''] = /^([a-z, -]+?) (\d.*)$/.exec(line) ?? []
    const on = names.split(', ').flatMap((span) => {
      const [from = '', to = from] = span.split('-')
      return days.slice(days.indexOf(from), days.indexOf(to) + 1)
    })
    return on.flatMap((day) =>
      times.split(', ').map((window) => {
        const [start = 0, end = 0] = window.split('-').map((t) => Number(t.slice(0, 2)) * 60 + Number(t.slice(3)))
        return { day: days.indexOf(day), start, end }
      }),
    )
  })
  return paint(windows)
}
