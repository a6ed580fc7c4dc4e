import type { Kind } from './listQueries'

/** What the kinds of entries are called. */
export const kinds: Record<Kind, string> = {
  site: 'site',
  host: 'host',
  below: 'below',
  'any-ending': 'any ending',
  'page-tree': 'page tree',
  regex: 'regex',
  note: 'note',
}
