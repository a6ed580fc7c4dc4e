import { expect, test } from 'vitest'
import { lengthSaid, roleSaid } from './roles'

test('a role is said with its bounds', () => {
  const ref = (name: string) => ({ id: name, name })
  expect(roleSaid({ role: 'owner' })).toBe('owner')
  expect(roleSaid({ role: 'lead', groups: [ref('Trainees')] })).toBe('lead of Trainees')
  expect(roleSaid({ role: 'editor', lists: [ref('Betting'), { id: 'x' }] })).toBe(
    'editor of Betting, something that is gone',
  )
  expect(roleSaid({ role: 'help desk', groups: ['A', 'B', 'C', 'D', 'E'].map(ref), reach: 'host', minutes: 120 })).toBe(
    'help desk of A, B, C and 2 more; grants at most a host, 2 hours',
  )
})

test.each([
  [60, '1 hour'],
  [90, '90 minutes'],
  [2880, '2 days'],
])('%d minutes are %s', (minutes, said) => {
  expect(lengthSaid(minutes)).toBe(said)
})
