import { queryOptions, useMutation } from '@tanstack/react-query'
import { api, data, type Schemas } from '../api/client'

export type Trial = Schemas['Trial']
export type Trials = Schemas['TrialsOutputBody']

/** The answer for one URL, on the draft as it is now. */
export const trialOptions = (url: string) =>
  queryOptions({
    queryKey: ['trials', url],
    queryFn: () => data(api.POST('/api/v1/trials', { body: { urls: [url] } })),
  })

/** Answers for many URLs at once. */
export function useTryMany() {
  return useMutation({ mutationFn: (urls: string[]) => data(api.POST('/api/v1/trials', { body: { urls } })) })
}
