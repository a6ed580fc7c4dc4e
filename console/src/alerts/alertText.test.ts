import { expect, test } from 'vitest'
import { alertText } from './alertText'

test('an alert says when it finds something', () => {
  expect(alertText({ what: 'requests', more: 40, minutes: 30, per: 'person', query: 'verdict:block' })).toBe(
    'More than 40 requests of one person in 30 minutes:',
  )
  expect(alertText({ what: 'requests', more: 1, minutes: 1 })).toBe('More than 1 request in 1 minute.')
  expect(alertText({ what: 'directories' })).toBe(
    'A directory was last read longer than 3 days ago, or a change of one waits.',
  )
  expect(alertText({ what: 'packs', days: 1 })).toBe('A pack is older than 1 day, or an update waits.')
  expect(alertText({ what: 'gates' })).toContain('5 minutes')
  expect(alertText({ what: 'expectations' })).toContain('live')
})
