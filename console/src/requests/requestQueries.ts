import { queryOptions } from '@tanstack/react-query'
import { api, data, type Schemas } from '../api/client'
import { useEdit } from '../api/useEdit'

export type AccessRequest = Schemas['AccessRequest']
export type RequestGroup = Schemas['RequestGroup']
export type Suggestion = Schemas['Suggestion']

const key = 'requests'

/** Requests for access: open ones first. */
export const requestsOptions = queryOptions({
  queryKey: [key],
  refetchInterval: 10_000,
  queryFn: async () => (await data(api.GET('/api/v1/requests', { params: { query: { all: true } } }))).requests,
})

/** Open requests, those for one site together. */
export const requestGroupsOptions = queryOptions({
  queryKey: [key, 'groups'],
  refetchInterval: 5_000,
  queryFn: () => data(api.GET('/api/v1/requests/groups')),
})

/** What a request is about, and what would help. */
export const adviceOptions = (id: string) =>
  queryOptions({
    queryKey: [key, 'advice', id],
    retry: false,
    queryFn: () => data(api.GET('/api/v1/requests/{id}/advice', { params: { path: { id } } })),
  })

/** How long requests wait. */
export const timesOptions = queryOptions({
  queryKey: [key, 'times'],
  queryFn: () => data(api.GET('/api/v1/requests/times')),
})

/** The practices, for whom mail tells of new requests. */
export const practicesOptions = queryOptions({
  queryKey: ['practices'],
  queryFn: () => data(api.GET('/api/v1/practices')),
})

export const useGrantRequests = () =>
  useEdit(
    async (body: Schemas['GrantRequestsInputBody']) =>
      (await data(api.POST('/api/v1/requests/grant', { body }))).answered,
  )

export const useRefuseRequests = () =>
  useEdit(
    async (body: Schemas['RefuseRequestsInputBody']) =>
      (await data(api.POST('/api/v1/requests/refuse', { body }))).answered,
  )

export const useEndStintFor = () =>
  useEdit(({ stint, person }: { stint: string; person: string }) =>
    data(api.PUT('/api/v1/stints/{id}/done', { params: { path: { id: stint } }, body: { person, done: true } })),
  )

export const usePutDeskMail = () =>
  useEdit((addresses: string[]) => data(api.PUT('/api/v1/practices/desk-mail', { body: { addresses } })))
