import { keepPreviousData, queryOptions } from '@tanstack/react-query'
import { api, data, match, type Schemas } from '../api/client'
import { useEdit } from '../api/useEdit'

export type KeptReport = Schemas['KeptReport']
export type ReportInput = Schemas['ReportInput']
export type MadeReport = Schemas['MadeReport']
export type Section = Schemas['ReportSection']
export type Counts = Schemas['VerdictCounts']
export type SectionKey = NonNullable<ReportInput['sections']>[number]
export type Span = ReportInput['span']

/** What a report is of. */
export type Asked = { q: string; span: Span; compare: boolean }

/** The sections of a report, in the order of the page. */
export const sections: [SectionKey, string][] = [
  ['blocked', 'Sites blocked most'],
  ['categories', 'Categories'],
  ['new', 'New sites'],
  ['unrated', 'Sites that nobody has rated'],
  ['sites', 'Sites'],
  ['families', 'Families'],
  ['people', 'People'],
  ['groups', 'Groups'],
  ['networks', 'Networks'],
  ['machines', 'Machines'],
  ['words', 'Search words'],
  ['provisos', 'Provisos'],
  ['policies', 'Policies'],
  ['rules', 'Rules that decided'],
  ['lists', 'Lists that decided'],
  ['gates', 'Gates'],
]

/** The sections that say who asked. */
export const ofPeople: SectionKey[] = ['people', 'machines']

export const spans: Record<Span, string> = {
  '24h': '24 hours',
  '7d': '7 days',
  '30d': '30 days',
  day: 'Yesterday',
  week: 'Last week',
  month: 'Last month',
}

/** One section of a report. */
export const sectionOptions = (asked: Asked, section: SectionKey, top = 8) =>
  queryOptions({
    queryKey: ['report', asked, section, top],
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 60_000,
    queryFn: () => data(api.GET('/api/v1/report', { params: { query: { ...asked, section: [section], top } } })),
  })

/** Where a report is as a file. */
export const fileOf = (asked: Asked, form: 'pdf' | 'csv', title?: string, of?: SectionKey[]) => {
  const p = new URLSearchParams({ q: asked.q, span: asked.span, compare: String(asked.compare), form })
  if (title) p.set('title', title)
  for (const s of of ?? []) p.append('section', s)
  return `/api/v1/report/file?${p}`
}

export const reportsOptions = queryOptions({
  queryKey: ['reports'],
  queryFn: async () => (await data(api.GET('/api/v1/reports'))).items,
})

export const useSaveReport = (report?: KeptReport) =>
  useEdit((body: ReportInput) =>
    report
      ? data(
          api.PUT('/api/v1/reports/{id}', {
            params: { path: { id: report.id }, header: match(report.version) },
            body,
          }),
        )
      : data(api.POST('/api/v1/reports', { body })),
  )

export const useRemoveReport = () =>
  useEdit((r: KeptReport) =>
    api.DELETE('/api/v1/reports/{id}', { params: { path: { id: r.id }, header: match(r.version) } }),
  )

export const useSendReport = () =>
  useEdit((id: string) => data(api.POST('/api/v1/reports/{id}/send', { params: { path: { id } } })))
