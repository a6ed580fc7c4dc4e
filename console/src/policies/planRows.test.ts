import { expect, test } from 'vitest'
import { planRows } from './planRows'

const strip = (...verdicts: ('allow' | 'watch' | 'hold' | 'block')[]) =>
  verdicts.map((verdict, i) => ({
    from: `2026-11-23T0${i}:00:00Z`,
    to: `2026-11-23T0${i + 1}:00:00Z`,
    verdict,
    by: '',
  }))

test('what fares alike shares a line, and what changes comes first', () => {
  const rows = planRows(strip('allow'), [
    { kind: 'list', name: 'Betting', strip: strip('block') },
    { kind: 'category', name: 'Games', strip: strip('block', 'watch', 'block') },
    { kind: 'category', name: 'Adult', strip: strip('block') },
    { kind: 'category', name: 'Video', strip: strip('block', 'watch', 'block') },
    { kind: 'category', name: 'Music', strip: strip('watch', 'block') },
  ])
  expect(rows.map((r) => r.name)).toEqual(['Games, Video', 'Music', 'Everything else', '"Betting", Adult'])
})

test('everything else stands alone where nothing fares otherwise', () => {
  expect(planRows(strip('hold'), []).map((r) => [r.name, r.kind])).toEqual([['Everything else', 'else']])
})

test('the same verdicts at other times are another line', () => {
  const later = strip('block', 'watch').map((s) => ({ ...s, from: s.from.replace('T0', 'T1') }))
  const rows = planRows(strip('allow'), [
    { kind: 'category', name: 'Games', strip: strip('block', 'watch') },
    { kind: 'category', name: 'Video', strip: later },
  ])
  expect(rows).toHaveLength(3)
})
