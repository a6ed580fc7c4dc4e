import { expect, test } from 'vitest'
import { changeOf } from './change'

test('a change is told in per cent of what was before', () => {
  const cases: [number, number, string][] = [
    [0, 0, ''],
    [3, 0, 'new'],
    [3, 3, '±0 %'],
    [1001, 1000, '±0 %'],
    [150, 100, '+50 %'],
    [0, 7, '−100 %'],
    [33, 100, '−67 %'],
  ]
  for (const [now, before, said] of cases) expect(changeOf(now, before)).toBe(said)
})
