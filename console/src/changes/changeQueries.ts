import { keepPreviousData, queryOptions, useQuery } from '@tanstack/react-query'
import { api, data, match, type Schemas } from '../api/client'
import { useEdit } from '../api/useEdit'
import { inputOf, type Policy, policiesOptions, type Rule } from '../policies/policyQueries'
import { movedAbove } from '../policies/ruleOrder'

export type ObjectDifference = Schemas['ObjectDifference']
export type Finding = Schemas['ReviewFinding']
export type Turn = Schemas['VerdictTurn']
export type Revision = Schemas['Revision']
export type ExpectationResult = Schemas['ExpectationResult']

export const turnsOptions = (from: string, to: string) =>
  queryOptions({
    queryKey: ['turns', from, to],
    queryFn: () => data(api.GET('/api/v1/diff/turns', { params: { query: { from, to } } })),
  })

export const expectedOptions = queryOptions({
  queryKey: ['expected'],
  queryFn: () => data(api.GET('/api/v1/expectations/results')),
})

/** Recorded requests under both states; with by, only the requests that one rule decides, one by one. */
export const replayOptions = (days: number, by?: string) =>
  queryOptions({
    queryKey: ['replay', days, by],
    placeholderData: keepPreviousData,
    queryFn: () =>
      data(
        api.POST('/api/v1/replay', {
          body: { by, limit: by ? 100 : 0, since: new Date(Date.now() - days * 86_400_000).toISOString() },
        }),
      ),
  })

/** What might be blocked. */
export type Choice = { categories: string[]; lists: string[]; entries: string[]; days: number }

export const isEmpty = (c: Choice) => c.categories.length + c.lists.length + c.entries.length === 0

export const affectedOptions = (choice: Choice) =>
  queryOptions({
    queryKey: ['affected', choice],
    placeholderData: keepPreviousData,
    enabled: !isEmpty(choice),
    retry: false,
    queryFn: () => {
      const { days, ...body } = choice
      const since = new Date(Date.now() - days * 86_400_000).toISOString()
      return data(api.POST('/api/v1/replay/affected', { body: { ...body, since } }))
    },
  })

/** Makes a rule of a choice, at the end of a policy of the draft. Entries go into a list of their own, as rules name lists. */
export const useBlock = () =>
  useEdit(async ({ choice, policy, rule }: { choice: Choice; policy: Policy; rule: Rule }) => {
    const lists = choice.lists.map((id) => ({ id }))
    if (choice.entries.length > 0) {
      const made = await data(
        api.POST('/api/v1/lists', {
          body: { name: rule.name, description: 'From what was asked before it was blocked.' },
        }),
      )
      await data(
        api.POST('/api/v1/lists/{id}/entries', {
          params: { path: { id: made.id } },
          body: { lines: choice.entries, reading: 'exact' },
        }),
      )
      lists.push({ id: made.id })
    }
    const parts: NonNullable<Rule['if']>[] = []
    if (choice.categories.length > 0) parts.push({ categories: choice.categories })
    if (lists.length > 0) parts.push({ lists })
    const one = parts.length === 1 ? parts[0] : undefined
    return data(
      api.PUT('/api/v1/policies/{id}', {
        params: { path: { id: policy.id }, header: match(policy.version) },
        body: { ...inputOf(policy), rules: [...policy.rules, { ...rule, if: one ?? { any: parts } }] },
      }),
    )
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

/** Deletes an object whose version has to be fetched first. */
async function remove(kind: string, id: string) {
  const params = { path: { id } }
  switch (kind) {
    case 'exception': {
      const { version } = await data(api.GET('/api/v1/exceptions/{id}', { params }))
      return api.DELETE('/api/v1/exceptions/{id}', { params: { ...params, header: match(version) } })
    }
    case 'policy': {
      const { version } = await data(api.GET('/api/v1/policies/{id}', { params }))
      return api.DELETE('/api/v1/policies/{id}', { params: { ...params, header: match(version) } })
    }
    case 'list': {
      const { version } = await data(api.GET('/api/v1/lists/{id}', { params }))
      return api.DELETE('/api/v1/lists/{id}', { params: { ...params, header: match(version) } })
    }
    case 'schedule': {
      const { version } = await data(api.GET('/api/v1/schedules/{id}', { params }))
      return api.DELETE('/api/v1/schedules/{id}', { params: { ...params, header: match(version) } })
    }
  }
}

const removable = ['exception', 'policy', 'list', 'schedule']

/** Carries out the step that mends a finding. The step is an edit of the draft like any other, and can be discarded. */
export function useMend() {
  const policies = useQuery(policiesOptions)
  const edit = useEdit(async ({ at, fix }: Finding) => {
    const params = { path: { id: at.id } }
    switch (fix?.do) {
      case 'switch rule off':
      case 'move rule up': {
        const policy = (policies.data ?? []).find((p) => p.id === at.id)
        if (!policy) return
        const rules =
          fix.do === 'move rule up'
            ? movedAbove(policy.rules, at.ruleId, fix.aboveId)
            : policy.rules.map((r) => (r.id === at.ruleId ? { ...r, off: true } : r))
        await data(
          api.PUT('/api/v1/policies/{id}', {
            params: { ...params, header: match(policy.version) },
            body: { ...inputOf(policy), rules },
          }),
        )
        return
      }
      case 'remove object':
        await remove(at.kind, at.id)
        return
      case 'remove entries': {
        if (at.entry) {
          // an unreadable entry; tidying removes superfluous ones
          await data(api.POST('/api/v1/lists/{id}/entries/remove', { params, body: { lines: [at.entry] } }))
          return
        }
        const { version } = await data(api.GET('/api/v1/lists/{id}', { params }))
        await data(api.POST('/api/v1/lists/{id}/tidy', { params: { ...params, header: match(version) }, body: {} }))
        return
      }
      case 'switch entries off': {
        const unmet = await data(
          api.GET('/api/v1/lists/{id}/unmet', { params: { ...params, query: { limit: 10_000 } } }),
        )
        const ids = unmet.entries.map((e) => e.id)
        await data(api.PATCH('/api/v1/lists/{id}/entries', { params, body: { which: { ids }, off: true } }))
        return
      }
      case 'replace entry':
        await data(
          api.POST('/api/v1/lists/{id}/entries', { params, body: { lines: [fix.new ?? ''], reading: 'exact' } }),
        )
        await data(api.POST('/api/v1/lists/{id}/entries/remove', { params, body: { lines: [at.entry ?? ''] } }))
        return
    }
  })
  const can = ({ at, fix }: Finding) =>
    fix !== undefined && fix.do !== 'add entry' && (fix.do !== 'remove object' || removable.includes(at.kind))
  return { edit, can }
}

/** What people say of the draft, and who can be asked to look. */
export const remarksOptions = queryOptions({
  queryKey: ['remarks'],
  queryFn: () => data(api.GET('/api/v1/draft/remarks')),
})

export const useAddRemark = () =>
  useEdit((body: Schemas['AddRemarkInputBody']) => data(api.POST('/api/v1/draft/remarks', { body })))

export const useEndRemark = () =>
  useEdit((id: number) => data(api.POST('/api/v1/draft/remarks/{id}/done', { params: { path: { id } } })))

export const usePutPractices = () =>
  useEdit((secondLook: boolean) => data(api.PUT('/api/v1/practices', { body: { secondLook } })))
