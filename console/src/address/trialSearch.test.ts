import { expect, test } from 'vitest'
import { trialOf } from './trialSearch'

test('a link to another page keeps the trial, and nothing else of the address', () => {
  const search = { url: 'heron.example', as: 'Kay Moran', at: '12:30', sight: 'name' as const, q: 'x', view: 'text' }
  expect(trialOf(search)).toEqual({ url: 'heron.example', as: 'Kay Moran', at: '12:30', sight: 'name' })
  expect(trialOf({})).toEqual({ url: undefined, as: undefined, at: undefined, sight: undefined })
})
