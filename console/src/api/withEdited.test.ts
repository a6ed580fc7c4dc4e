import { expect, test } from 'vitest'
import { withEdited } from './withEdited'

test('an edited object stands in its place, and the others as they were', () => {
  const a = { id: 'a', version: 1 }
  const b = { id: 'b', version: 1 }
  const edited = { id: 'b', version: 2 }
  const all = [a, b, { id: 'c', version: 1 }]
  expect(withEdited(all, edited)).toEqual([a, edited, { id: 'c', version: 1 }])
  expect(all[1]).toBe(b)
  expect(withEdited(all, { id: 'd', version: 1 })).toEqual(all)
})

test('what was never fetched stays so', () => {
  expect(withEdited(undefined, { id: 'a' })).toBeUndefined()
})

test('the order stays, whatever is edited', () => {
  const all = ['x', 'y', 'z'].map((id) => ({ id, name: id }))
  for (const o of all) {
    const ids = withEdited(all, { ...o, name: 'new' })?.map((e) => e.id)
    expect(ids).toEqual(['x', 'y', 'z'])
  }
})
