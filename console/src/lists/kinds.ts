import type { Kind } from './listQueries'

/** The names of the kinds of entries. */
export const kinds: Record<Kind, string> = {
  site: 'site',
  host: 'host',
  below: 'below',
  'any-ending': 'any ending',
  'host-glob': 'host glob',
  'page-tree': 'page tree',
  page: 'page',
  'path-glob': 'path glob',
  query: 'query',
  scheme: 'scheme',
  port: 'port',
  address: 'address',
  word: 'word',
  regex: 'regex',
  everything: 'everything',
  note: 'note',
}

export const kindNames = Object.keys(kinds) as [Kind, ...Kind[]]

/** The views of a list; without one, its entries in a table. */
export const views = ['text', 'tidy', 'history', 'source'] as const

export type View = (typeof views)[number]
