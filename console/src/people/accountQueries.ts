import { queryOptions, useMutation, useQueryClient } from '@tanstack/react-query'
import { api, data, type Schemas } from '../api/client'

export type Account = Schemas['Account']
export type Role = Schemas['Role']

export type Claim = Schemas['Claim']

const key = ['accounts']

/** Who may sign in, and what they may do. */
export const accountsOptions = queryOptions({
  queryKey: key,
  queryFn: async () => (await data(api.GET('/api/v1/accounts'))).accounts,
})

/** An edit of accounts: the own one may be among them, so what it may do is asked again. */
function useAccountEdit<In, Out>(mutationFn: (input: In) => Promise<Out>) {
  const client = useQueryClient()
  return useMutation({ mutationFn, onSuccess: () => client.invalidateQueries() })
}

export const useAddAccount = () =>
  useAccountEdit((body: Schemas['NewAccountInputBody']) => data(api.POST('/api/v1/accounts', { body })))

export const usePutRoles = (id: string) =>
  useAccountEdit((roles: Role[]) =>
    data(api.PUT('/api/v1/accounts/{id}/roles', { params: { path: { id } }, body: { roles } })),
  )

export const useResetPassword = (id: string) =>
  useAccountEdit((password: string) =>
    api.PUT('/api/v1/accounts/{id}/password', { params: { path: { id } }, body: { password } }),
  )

export const useRemoveAccount = () =>
  useAccountEdit(({ id }: { id: string; name: string }) =>
    api.DELETE('/api/v1/accounts/{id}', { params: { path: { id } } }),
  )

/** What those may do whom the identity provider puts in a group. */
export const claimsOptions = queryOptions({
  queryKey: ['claims'],
  queryFn: () => data(api.GET('/api/v1/provider/groups')),
})

export const usePutClaim = () =>
  useAccountEdit(({ group, roles }: { group: string; roles: Role[] }) =>
    data(api.PUT('/api/v1/provider/group', { params: { query: { group } }, body: { roles } })),
  )

export const useRemoveClaim = () =>
  useAccountEdit(({ name: group }: { name: string }) =>
    api.DELETE('/api/v1/provider/group', { params: { query: { group } } }),
  )
