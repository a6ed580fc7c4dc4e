import { type QueryClient, queryOptions, useMutation, useQueryClient } from '@tanstack/react-query'
import { api, data, type Schemas } from '../api/client'
import { keepZone } from '../ui/clock'

/** The account that is signed in, or null. */
export const meOptions = queryOptions({
  queryKey: ['me'],
  staleTime: Number.POSITIVE_INFINITY,
  queryFn: async (): Promise<Schemas['Account'] | null> => {
    const { account, zone } = await data(api.GET('/api/v1/session'))
    keepZone(zone)
    return account ?? null
  },
})

/** Sets the account that is signed in, and drops everything that was fetched for another one. */
function forgetAllBut(client: QueryClient, me: Schemas['Account'] | null) {
  client.removeQueries({ predicate: (query) => query.queryKey[0] !== meOptions.queryKey[0] })
  client.setQueryData(meOptions.queryKey, me)
}

export function useSignIn() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (body: Schemas['SignInInputBody']) => data(api.POST('/api/v1/session', { body })),
    onSuccess: (me) => {
      forgetAllBut(client, me)
    },
  })
}

export function useSignOut() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: () => api.DELETE('/api/v1/session'),
    onSuccess: () => {
      forgetAllBut(client, null)
    },
  })
}
