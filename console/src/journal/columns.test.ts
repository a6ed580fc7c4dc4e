import { expect, test } from 'vitest'
import { readColumns, usualColumns, writeColumns } from './columns'

test('columns are written and read', () => {
  expect(readColumns()).toEqual(usualColumns)
  expect(readColumns('size,host,nothing,size')).toEqual(['size', 'host'])
  expect(readColumns('nothing')).toEqual(usualColumns)
  expect(writeColumns(usualColumns)).toBeUndefined()
  expect(writeColumns([])).toBeUndefined()
  expect(writeColumns(['host', 'size'])).toBe('host,size')
})
