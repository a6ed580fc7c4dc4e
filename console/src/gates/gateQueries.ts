import { queryOptions } from '@tanstack/react-query'
import { api, data, type Schemas } from '../api/client'
import { useEdit } from '../api/useEdit'

export type Gate = Schemas['GateReport']
export type HandedZone = Schemas['Zone']
export type GateRecord = Schemas['GateRecord']
export type Authority = Schemas['GateAuthority']
export type Enrolment = Schemas['EnrolmentOutputBody']

/** The gates, and what they report of themselves every two seconds. */
export const gatesOptions = queryOptions({
  queryKey: ['gates'],
  refetchInterval: 2000,
  queryFn: () => data(api.GET('/api/v1/gates')),
})

/** The requests that were recorded last. */
export const latestOptions = queryOptions({
  queryKey: ['gates', 'records'],
  refetchInterval: 2000,
  queryFn: async () => (await data(api.GET('/api/v1/gates/records', { params: { query: { limit: 50 } } }))).records,
})

export const authoritiesOptions = queryOptions({
  queryKey: ['gates', 'authorities'],
  queryFn: async () => (await data(api.GET('/api/v1/gates/authorities'))).authorities,
})

export const useMakeAuthority = () =>
  useEdit((body: Schemas['MakeAuthorityInputBody']) => data(api.POST('/api/v1/gates/authorities', { body })))

export const useEnrolGate = () =>
  useEdit((body: Schemas['EnrolmentInputBody']) => data(api.POST('/api/v1/gates/enrolments', { body })))

export const useRetireGate = () =>
  useEdit((name: string) => data(api.DELETE('/api/v1/gates', { params: { query: { name } } })))

export const useNeverOpen = () =>
  useEdit((host: string) => data(api.POST('/api/v1/gates/never-opened', { body: { host } })))

/** How many lines a zone file has, and what it says that its form cannot say. */
export const zoneOptions = (form: 'rpz' | 'hosts' | 'names' | 'pac', group: string, errs: 'open' | 'close') =>
  queryOptions({
    queryKey: ['zone', form, group, errs],
    queryFn: async () => {
      const text = await data(
        api.GET('/api/v1/zones/{form}', { params: { path: { form }, query: { group, errs } }, parseAs: 'text' }),
      )
      const lines = String(text).trimEnd().split('\n')
      const comments = lines.filter((line) => /^(;|#|\/\/) /.test(line))
      const unsaid = comments
        .map((line) => /^\S+ +(\d+ {2}.*)$/.exec(line)?.[1]?.replace('  ', ' '))
        .filter((said) => said !== undefined)
      return { lines: lines.length - comments.length, unsaid }
    },
  })
