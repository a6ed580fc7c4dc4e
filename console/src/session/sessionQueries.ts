import { type QueryClient, queryOptions, useMutation, useQueryClient } from '@tanstack/react-query'
import { api, data, type Schemas } from '../api/client'
import { keepZone } from '../ui/clock'

/** Who is signed in; null where nobody is. */
export const meOptions = queryOptions({
  queryKey: ['me'],
  staleTime: Number.POSITIVE_INFINITY,
  queryFn: async (): Promise<Schemas['Account'] | null> => {
    const { account, zone } = await data(api.GET('/api/v1/session'))
    keepZone(zone)
    return account ?? null
  },
})

/** Says who is signed in now; what was fetched before may be somebody else's to see and is forgotten. */
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
