import { queryOptions } from '@tanstack/react-query'
import { api, data, match, type Schemas } from '../api/client'
import { useEdit } from '../api/useEdit'

export type Alert = Schemas['Alert']
export type AlertInput = Schemas['AlertInput']
export type Incident = Schemas['Incident']
export type Forward = Schemas['Forward']
export type ForwardInput = Schemas['ForwardInput']
export type Delivery = Schemas['Delivery']

export const alertsOptions = queryOptions({
  queryKey: ['alerts'],
  queryFn: async () => (await data(api.GET('/api/v1/alerts'))).items,
  refetchInterval: 10_000,
})

export const incidentsOptions = (open: boolean) =>
  queryOptions({
    queryKey: ['incidents', open],
    queryFn: async () =>
      (await data(api.GET('/api/v1/incidents', { params: { query: { open, limit: 200 } } }))).incidents,
    refetchInterval: 10_000,
  })

export const forwardsOptions = queryOptions({
  queryKey: ['forwards'],
  queryFn: async () => (await data(api.GET('/api/v1/forwards'))).items,
  refetchInterval: 10_000,
})

export const useSaveAlert = (alert?: Alert) =>
  useEdit((body: AlertInput) =>
    alert
      ? data(api.PUT('/api/v1/alerts/{id}', { params: { path: { id: alert.id }, header: match(alert.version) }, body }))
      : data(api.POST('/api/v1/alerts', { body })),
  )

export const useRemoveAlert = () =>
  useEdit((a: Alert) => api.DELETE('/api/v1/alerts/{id}', { params: { path: { id: a.id }, header: match(a.version) } }))

export const useTestAlert = () =>
  useEdit((id: string) => data(api.POST('/api/v1/alerts/{id}/test', { params: { path: { id } } })))

export const useAcknowledge = () =>
  useEdit(({ id, reason }: { id: string; reason: string }) =>
    data(api.POST('/api/v1/incidents/{id}/acknowledge', { params: { path: { id } }, body: { reason } })),
  )

export const useSaveForward = (forward?: Forward) =>
  useEdit((body: ForwardInput) =>
    forward
      ? data(
          api.PUT('/api/v1/forwards/{id}', {
            params: { path: { id: forward.id }, header: match(forward.version) },
            body,
          }),
        )
      : data(api.POST('/api/v1/forwards', { body })),
  )

export const useRemoveForward = () =>
  useEdit((f: Forward) =>
    api.DELETE('/api/v1/forwards/{id}', { params: { path: { id: f.id }, header: match(f.version) } }),
  )
