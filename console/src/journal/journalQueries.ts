import { keepPreviousData, queryOptions } from '@tanstack/react-query'
import { api, data, type Schemas } from '../api/client'

export type JournalRecord = Schemas['GateRecord']
export type JournalSummary = Schemas['SummaryOutputBody']
export type Counts = Schemas['VerdictCounts']

/** The fields that the page counts beside the records. */
export const facetFields = [
  'verdict',
  'host',
  'category',
  'person',
  'group',
  'network',
  'rule',
  'list',
  'gate',
] as const

/** What each is called on the page. */
export const facetNames: Record<(typeof facetFields)[number], string> = {
  verdict: 'Verdicts',
  host: 'Hosts',
  category: 'Categories',
  person: 'People',
  group: 'Groups',
  network: 'Networks',
  rule: 'Rules that decided',
  list: 'Lists that decided',
  gate: 'Gates',
}

/** A page of the records that a query selects. */
export const recordsOptions = (q: string, before?: string) =>
  queryOptions({
    queryKey: ['journal', 'records', q, before],
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () => data(api.GET('/api/v1/journal', { params: { query: { q, before, limit: 100 } } })),
  })

/** What a query selects, counted by fields and over time. */
export const summaryOptions = (q: string, names: boolean) =>
  queryOptions({
    queryKey: ['journal', 'summary', q, names],
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      data(
        api.GET('/api/v1/journal/summary', {
          params: { query: { q, by: facetFields.filter((f) => names || f !== 'person'), top: 6, over: 'auto' } },
        }),
      ),
  })

/** Searches that are kept: one's own, and those that are shared. */
export const searchesOptions = queryOptions({
  queryKey: ['searches'],
  queryFn: async () => (await data(api.GET('/api/v1/searches'))).items,
})

/** One record. */
export const recordOptions = (id: string) =>
  queryOptions({
    queryKey: ['journal', 'record', id],
    queryFn: () => data(api.GET('/api/v1/journal/records/{id}', { params: { path: { id } } })),
  })

/** Why a record was decided as it was, and what the same request would get now. */
export const whyOptions = (id: string) =>
  queryOptions({
    queryKey: ['journal', 'why', id],
    queryFn: () => data(api.GET('/api/v1/journal/records/{id}/why', { params: { path: { id } } })),
  })

/** What could stand at a place of a query. */
export const completionOptions = (text: string, at: number) =>
  queryOptions({
    queryKey: ['journal', 'completions', text, at],
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () => data(api.GET('/api/v1/journal/completions', { params: { query: { text, at } } })),
  })
