import { queryOptions } from '@tanstack/react-query'
import { api, data, type Schemas } from '../api/client'
import { useEdit } from '../api/useEdit'

export type AccessRequest = Schemas['AccessRequest']

/** Requests for access: open ones first. */
export const requestsOptions = queryOptions({
  queryKey: ['requests'],
  refetchInterval: 10_000,
  queryFn: async () => (await data(api.GET('/api/v1/requests', { params: { query: { all: true } } }))).requests,
})

export const useGrantRequest = () =>
  useEdit(({ id, minutes }: { id: string; minutes: number }) =>
    data(api.POST('/api/v1/requests/{id}/grant', { params: { path: { id } }, body: { minutes } })),
  )

export const useRefuseRequest = () =>
  useEdit(({ id, answer }: { id: string; answer: string }) =>
    data(api.POST('/api/v1/requests/{id}/refuse', { params: { path: { id } }, body: { answer } })),
  )
