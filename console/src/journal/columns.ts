import type { Schemas } from '../api/client'

export type Column = NonNullable<Schemas['SavedSearch']['columns']>[number]

/** What can be shown of a record: the head of its column, and how wide it is. */
export const columnNames: Record<Column, [string, string]> = {
  time: ['When', 'w-32'],
  verdict: ['Verdict', 'w-20'],
  who: ['Who', 'w-32'],
  request: ['Request', ''],
  by: ['By', 'w-48'],
  outcome: ['Outcome', 'w-24'],
  person: ['Person', 'w-32'],
  machine: ['Machine', 'w-32'],
  address: ['Address', 'w-28'],
  network: ['Network', 'w-32'],
  groups: ['Groups', 'w-40'],
  method: ['Method', 'w-16'],
  host: ['Host', 'w-56'],
  categories: ['Categories', 'w-40'],
  rung: ['Rung', 'w-24'],
  policy: ['Policy', 'w-32'],
  list: ['List', 'w-32'],
  entry: ['Entry', 'w-40'],
  gate: ['Gate', 'w-28'],
  sight: ['Sight', 'w-16'],
  provisos: ['Provisos', 'w-36'],
  traits: ['Traits', 'w-32'],
  words: ['Searched', 'w-40'],
  status: ['Status', 'w-14'],
  type: ['Type', 'w-28'],
  size: ['Size', 'w-24'],
  duration: ['Took', 'w-20'],
  referrer: ['Came from', 'w-40'],
  agent: ['Program', 'w-40'],
  revision: ['Revision', 'w-16'],
}

export const usualColumns: Column[] = ['time', 'verdict', 'who', 'request', 'by']

/** Reads columns as an address has them: what is not known is passed over, and none are the usual ones. */
export function readColumns(text?: string): Column[] {
  const chosen = (text ?? '').split(',').filter((c): c is Column => c in columnNames)
  return chosen.length > 0 ? [...new Set(chosen)] : usualColumns
}

/** Writes columns for an address; undefined for the usual ones. */
export const writeColumns = (columns: Column[]): string | undefined =>
  columns.join() === usualColumns.join() || columns.length === 0 ? undefined : columns.join()
