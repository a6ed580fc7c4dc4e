import { keepPreviousData, queryOptions } from '@tanstack/react-query'
import { api, data, type Schemas } from '../api/client'
import { useAsked } from '../may/may'

export type Used = Schemas['UsedObject']
type Kind = 'rule' | 'list' | 'entry' | 'exception' | 'category' | 'scorecard'

const most = 200

/** How often things were used in 30 days, by their ids or, for the entries of a list, by their texts. */
export function useUsage(kind: Kind, ids: string[], entries?: string[]): Map<string, Used> | undefined {
  const asked = entries ?? ids
  const query = useAsked(
    'getUsage',
    queryOptions({
      queryKey: ['usage', kind, ids, entries],
      enabled: asked.length > 0,
      placeholderData: keepPreviousData,
      staleTime: 30_000,
      queryFn: async () => {
        const found = new Map<string, Used>()
        for (let at = 0; at < asked.length; at += most) {
          const some = asked.slice(at, at + most)
          const answer = await data(
            api.GET('/api/v1/usage', {
              params: { query: entries ? { kind, id: ids, entry: some } : { kind, id: some } },
            }),
          )
          for (const u of answer.used) found.set(u.entry ?? u.id, u)
        }
        return found
      },
    }),
  )
  return query.data
}
