import { queryOptions } from '@tanstack/react-query'
import { api, data } from '../api/client'

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

/** What is wrong with the draft, or may be. */
export const reviewOptions = queryOptions({
  queryKey: ['review'],
  queryFn: () => data(api.GET('/api/v1/review')),
})
