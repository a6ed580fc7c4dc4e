import { type QueryClient, queryOptions, useMutation, useQueryClient } from '@tanstack/react-query'
import { api, data, type Schemas } from '../api/client'
import { keepZone } from '../ui/clock'
import { askPasskey } from './passkeys'

/** Who is signed in, and how one can sign in. */
const sessionOptions = queryOptions({
  queryKey: ['me'],
  staleTime: 60_000, // roles change; what is refused meanwhile says so
  queryFn: async () => {
    const session = await data(api.GET('/api/v1/session'))
    keepZone(session.zone)
    return session
  },
})

/** The same ways to sign in, with nobody signed in. */
export const withoutAccount = (session: Schemas['SessionOutputBody']) => ({
  ...session,
  account: undefined,
  may: undefined,
})

/** The account that is signed in and what it may do, or null. */
export const meOptions = queryOptions({
  ...sessionOptions,
  select: ({ account, may }: Schemas['SessionOutputBody']): Me | null =>
    account ? { ...account, may: may ?? [] } : null,
})

/** The ways to sign in. */
export const waysInOptions = queryOptions({
  ...sessionOptions,
  select: ({ provider, unowned }: Schemas['SessionOutputBody']) => ({ provider, unowned: unowned ?? false }),
})

export type Me = Schemas['Account'] & { may: Schemas['Permitted'][] }

/** Whether the account is an owner's. */
export const isOwner = (me: Me | null | undefined) => me?.roles.some((r) => r.role === 'owner') ?? false

/** Drops everything that was fetched for another account. */
const forget = (client: QueryClient) =>
  client.removeQueries({ predicate: (query) => query.queryKey[0] !== sessionOptions.queryKey[0] })

/** Asks anew who is signed in. */
async function begin(client: QueryClient) {
  const session = await client.fetchQuery({ ...sessionOptions, staleTime: 0 })
  forget(client)
  return session
}

/** A mutation after which somebody else may be signed in. */
function useSession<In, Out>(mutationFn: (input: In) => Promise<Out>) {
  const client = useQueryClient()
  return useMutation({ mutationFn, onSuccess: () => begin(client) })
}

export const useSignIn = () =>
  useSession((body: Schemas['SignInInputBody']) => data(api.POST('/api/v1/session', { body })))

export const useMakeFirstOwner = () =>
  useSession((body: Schemas['FirstOwnerInputBody']) => data(api.POST('/api/v1/first-owner', { body })))

export function useSignOut() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: () => api.DELETE('/api/v1/session'),
    // Nothing more is asked: the account must be gone from the page also where the service does not answer any more.
    onSuccess: () => {
      client.setQueryData(sessionOptions.queryKey, (before) => before && withoutAccount(before))
      forget(client)
    },
  })
}

export const usePasskeySignIn = () =>
  useSession(async () => {
    const { options, kept } = await data(api.POST('/api/v1/session/passkey/challenge'))
    const answer = await askPasskey(options)
    return data(api.POST('/api/v1/session/passkey', { body: { kept, answer } }))
  })

/** Where the browser keeps what the service gave it for a sign-in elsewhere. */
const keptAt = 'sign-in'

/** Leads to the identity provider. */
export function useLeaveForProvider() {
  return useMutation({
    mutationFn: async () => {
      const { url, kept } = await data(api.POST('/api/v1/session/provider/start'))
      sessionStorage.setItem(keptAt, kept)
      window.location.assign(url)
    },
  })
}

/** Ends a sign-in that the identity provider has led back from. */
export const useProviderSignIn = () =>
  useSession(({ code, state }: { code: string; state: string }) => {
    const kept = sessionStorage.getItem(keptAt) ?? ''
    sessionStorage.removeItem(keptAt)
    return data(api.POST('/api/v1/session/provider', { body: { code, state, kept } }))
  })
