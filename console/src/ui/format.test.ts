import { expect, test } from 'vitest'
import { count, formatNumber } from './format'

test('numbers have commas between thousands', () => {
  expect(formatNumber(0)).toBe('0')
  expect(formatNumber(999)).toBe('999')
  expect(formatNumber(1234567)).toBe('1,234,567')
})

test.each([
  [0, '0 entries'],
  [1, '1 entry'],
  [2, '2 entries'],
  [12000, '12,000 entries'],
])('%i is told as %s', (n, told) => {
  expect(count(n, 'entry', 'entries')).toBe(told)
})
