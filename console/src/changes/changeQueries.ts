import { keepPreviousData, queryOptions, useQuery } from '@tanstack/react-query'
import { api, data, match, type Schemas } from '../api/client'
import { useEdit } from '../api/useEdit'
import { inputOf, policiesOptions } from '../policies/policyQueries'

export type ObjectDifference = Schemas['ObjectDifference']
export type Finding = Schemas['ReviewFinding']
export type Turn = Schemas['VerdictTurn']
export type Revision = Schemas['Revision']
export type ExpectationResult = Schemas['ExpectationResult']

/** How the draft stands beside what is live. Others edit, too, so it is asked for again and again. */
export const draftOptions = queryOptions({
  queryKey: ['draft'],
  refetchInterval: 10_000,
  queryFn: () => data(api.GET('/api/v1/draft')),
})

export const diffOptions = (from: string, to: string) =>
  queryOptions({
    queryKey: ['diff', from, to],
    queryFn: () => data(api.GET('/api/v1/diff', { params: { query: { from, to } } })),
  })

export const turnsOptions = (from: string, to: string) =>
  queryOptions({
    queryKey: ['turns', from, to],
    queryFn: () => data(api.GET('/api/v1/diff/turns', { params: { query: { from, to } } })),
  })

export const reviewOptions = queryOptions({
  queryKey: ['review'],
  queryFn: () => data(api.GET('/api/v1/review')),
})

export const expectedOptions = queryOptions({
  queryKey: ['expected'],
  queryFn: () => data(api.GET('/api/v1/expectations/results')),
})

/** Recorded requests under both; with by, those that one thing decides, one by one. */
export const replayOptions = (by?: string) =>
  queryOptions({
    queryKey: ['replay', by],
    placeholderData: keepPreviousData,
    queryFn: () => data(api.POST('/api/v1/replay', { body: { by, limit: by ? 100 : 0 } })),
  })

export const affectedOptions = (categories: string[]) =>
  queryOptions({
    queryKey: ['affected', categories],
    placeholderData: keepPreviousData,
    enabled: categories.length > 0,
    queryFn: () => data(api.POST('/api/v1/replay/affected', { body: { categories } })),
  })

export const revisionsOptions = queryOptions({
  queryKey: ['revisions'],
  queryFn: async () => (await data(api.GET('/api/v1/revisions'))).revisions,
})

export const auditOptions = (text: string) =>
  queryOptions({
    queryKey: ['audit', text],
    placeholderData: keepPreviousData,
    queryFn: async () =>
      (await data(api.GET('/api/v1/audit', { params: { query: { text: text || undefined } } }))).events,
  })

export const usePublish = () =>
  useEdit((body: Schemas['PublishInputBody']) => data(api.POST('/api/v1/revisions', { body })))

export const useUnplan = () => useEdit((id: string) => api.DELETE('/api/v1/planned/{id}', { params: { path: { id } } }))

export const useMakeLive = () =>
  useEdit(({ number, note, draft }: { number: number; note: string; draft: boolean }) =>
    data(api.POST('/api/v1/revisions/{number}/live', { params: { path: { number } }, body: { note, draft } })),
  )

export const useDiscard = () =>
  useEdit((body: Schemas['DiscardInputBody']) => api.POST('/api/v1/draft/discard', { body }))

export const useAccept = () =>
  useEdit((body: Schemas['AcceptInputBody']) => api.POST('/api/v1/review/accepted', { body }))

export const useUnaccept = () =>
  useEdit((key: string) => api.DELETE('/api/v1/review/accepted', { params: { query: { key } } }))

export const useAddExpectation = () =>
  useEdit((body: Schemas['ExpectationInput']) => data(api.POST('/api/v1/expectations', { body })))

export const useRemoveExpectation = () =>
  useEdit(async (id: string) => {
    const e = await data(api.GET('/api/v1/expectations/{id}', { params: { path: { id } } }))
    await api.DELETE('/api/v1/expectations/{id}', { params: { path: { id }, header: match(e.version) } })
  })

/** Carries out the step that would mend a finding, where that is one call; nothing where it is not. */
export function useMend() {
  const policies = useQuery(policiesOptions)
  const edit = useEdit(async (f: Finding) => {
    const policy = (policies.data ?? []).find((p) => p.id === f.at.id)
    if (policy && (f.fix?.do === 'switch rule off' || f.fix?.do === 'move rule up')) {
      const rules = [...policy.rules]
      const [rule] = rules.splice(f.at.rule, 1)
      if (!rule) return
      if (f.fix.do === 'move rule up') rules.splice(f.fix.to ?? 0, 0, rule)
      else rules.splice(f.at.rule, 0, { ...rule, off: true })
      await data(
        api.PUT('/api/v1/policies/{id}', {
          params: { path: { id: policy.id }, header: match(policy.version) },
          body: { ...inputOf(policy), rules },
        }),
      )
      return
    }
    if (f.fix?.do === 'remove object' && f.at.kind === 'exception') {
      const e = await data(api.GET('/api/v1/exceptions/{id}', { params: { path: { id: f.at.id } } }))
      await api.DELETE('/api/v1/exceptions/{id}', { params: { path: { id: f.at.id }, header: match(e.version) } })
    }
  })
  const can = (f: Finding) =>
    f.fix !== undefined &&
    (['switch rule off', 'move rule up'].includes(f.fix.do) ||
      (f.fix.do === 'remove object' && f.at.kind === 'exception'))
  return { edit, can }
}
