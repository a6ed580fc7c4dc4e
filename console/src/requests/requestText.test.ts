import { expect, it } from 'vitest'
import { failedSaid, waited } from './requestText'

it('says how long', () => {
  expect(waited(0.2)).toBe('under a minute')
  expect(waited(12.4)).toBe('12 min')
  expect(waited(150)).toBe('3 h')
})

it('says what was not answered, each reason once', () => {
  expect(failedSaid([{}, {}])).toBeUndefined()
  expect(failedSaid([{}, { problem: 'Gone.' }, { problem: 'Gone.' }])).toBe('2 of 3 not answered: Gone.')
})
