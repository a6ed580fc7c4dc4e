import { type QueryClient, queryOptions, useMutation, useQueryClient } from '@tanstack/react-query'
import { api, data, type Schemas } from '../api/client'
import { keepZone } from '../ui/clock'

/** The account that is signed in and what it may do, or null. */
export const meOptions = queryOptions({
  queryKey: ['me'],
  staleTime: 60_000, // roles change; what is refused meanwhile says so
  queryFn: async (): Promise<Me | null> => {
    const { account, may, zone } = await data(api.GET('/api/v1/session'))
    keepZone(zone)
    return account ? { ...account, may: may ?? [] } : null
  },
})

export type Me = Schemas['Account'] & { may: Schemas['Permitted'][] }

/** Whether the account is an owner's. */
export const isOwner = (me: Me | null | undefined) => me?.roles.some((r) => r.role === 'owner') ?? false

/** Sets the account that is signed in, and drops everything that was fetched for another one. */
function forgetAllBut(client: QueryClient, me: Me | null) {
  client.removeQueries({ predicate: (query) => query.queryKey[0] !== meOptions.queryKey[0] })
  client.setQueryData(meOptions.queryKey, me)
}

export function useSignIn() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (body: Schemas['SignInInputBody']) => data(api.POST('/api/v1/session', { body })),
    onSuccess: async () => forgetAllBut(client, await client.fetchQuery({ ...meOptions, staleTime: 0 })),
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
