import { describe, expect, it } from 'vitest'
import { atFirst, leftSaid, saysWhat, stintOf, toggled } from './stintForm'

describe('stintOf', () => {
  it('wants a list, unless the web is paused', () => {
    expect(stintOf('g', atFirst)).toBeNull()
    expect(stintOf('g', { ...atFirst, lists: ['l'] })).toEqual({
      group: 'g',
      kind: 'only',
      lists: ['l'],
      own: [],
      minutes: 45,
    })
    expect(stintOf('g', { ...atFirst, kind: 'nothing', lists: ['l'], ends: 'window', reason: ' Rounds ' })).toEqual({
      group: 'g',
      kind: 'nothing',
      schedule: 'window',
      reason: 'Rounds',
    })
  })
  it('wants somebody where it is for some', () => {
    expect(stintOf('g', { ...atFirst, own: ['o'], people: [] })).toBeNull()
    expect(stintOf('g', { ...atFirst, own: ['o'], people: ['p'] })?.people).toEqual(['p'])
  })
})

it('toggles', () => {
  expect(toggled(['a'], 'b')).toEqual(['a', 'b'])
  expect(toggled(['a', 'b'], 'a')).toEqual(['b'])
})

it('says what is left', () => {
  const now = Date.parse('2026-11-30T12:00:00Z')
  expect(leftSaid('2026-11-30T12:00:30Z', now)).toBe('1 minute left')
  expect(leftSaid('2026-11-30T12:32:00Z', now)).toBe('32 minutes left')
  expect(leftSaid('2026-11-30T14:05:00Z', now)).toBe('2 h 5 min left')
  expect(leftSaid('2026-11-30T11:00:00Z', now)).toBe('it ends now')
})

it('says what a stint does', () => {
  expect(saysWhat({ kind: 'but', lists: [{ name: 'Video' }], own: [{ name: 'Mine' }] })).toBe('all but Video, Mine')
  expect(saysWhat({ kind: 'nothing' })).toBe('the web is paused')
})
