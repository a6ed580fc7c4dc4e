import { queryOptions } from '@tanstack/react-query'
import { api, data } from '../api/client'

/** The differences between the draft and the live edition, in numbers. Other people edit, too, so it is fetched at intervals. */
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

/** The findings about the draft. */
export const reviewOptions = queryOptions({
  queryKey: ['review'],
  queryFn: () => data(api.GET('/api/v1/review')),
})
