import { expect, test } from 'vitest'
import { movedAbove } from './ruleOrder'

const rules = [{ id: 'a' }, { id: 'b' }, { id: 'c' }]
const order = (...ids: Parameters<typeof movedAbove> extends [unknown, ...infer I] ? I : never) =>
  movedAbove(rules, ...ids)
    .map((r) => r.id)
    .join('')

test('a rule moves right above another', () => {
  expect(order('c', 'a')).toBe('cab')
  expect(order('c', 'b')).toBe('acb')
  expect(order('a', 'c')).toBe('bac')
})

test('what is gone moves nothing', () => {
  expect(order('gone', 'a')).toBe('abc')
  expect(order('c', 'gone')).toBe('abc')
  expect(order('c', 'c')).toBe('abc')
  expect(order(undefined, undefined)).toBe('abc')
})
