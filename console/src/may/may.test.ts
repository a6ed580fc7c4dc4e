import { expect, test } from 'vitest'
import { permits } from './may'

const parts = [
  { operations: ['getLists', 'getPeople'], whole: true },
  { operations: ['addEntries', 'removeEntries'], lists: ['dosage'], whole: false },
  { operations: ['grantRequest'], groups: ['trainees'], whole: false },
]

test.each([
  ['getLists', {}, true],
  ['addEntries', {}, false],
  ['addEntries', { list: 'dosage' }, true],
  ['addEntries', { list: 'betting' }, false],
  ['addEntries', { people: true }, false],
  ['grantRequest', {}, false],
  ['grantRequest', { people: true }, true],
  ['grantRequest', { list: 'dosage' }, false],
  ['publish', { list: 'dosage', people: true }, false],
  [undefined, {}, true],
] as const)('%s on %o: %s', (does, on, may) => {
  expect(permits(parts, does, on)).toBe(may)
})
