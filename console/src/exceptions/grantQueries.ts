import { queryOptions } from '@tanstack/react-query'
import { api, data, type Schemas } from '../api/client'
import { useEdit } from '../api/useEdit'

export type Grant = Schemas['Grant']
export type NewGrant = Schemas['NewGrantInputBody']

/** Grants in force and those of the last 90 days that are over, the latest first. */
export const grantsOptions = queryOptions({
  queryKey: ['grants'],
  queryFn: async () => (await data(api.GET('/api/v1/grants', { params: { query: { over: true } } }))).grants,
})

export const useGrant = () => useEdit((body: NewGrant) => data(api.POST('/api/v1/grants', { body })))

export const useEndGrant = () =>
  useEdit((id: string) => api.DELETE('/api/v1/grants/{id}', { params: { path: { id } } }))

export const useKeepGrant = () =>
  useEdit((id: string) => data(api.POST('/api/v1/grants/{id}/keep', { params: { path: { id } }, body: {} })))
