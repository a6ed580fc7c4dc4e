import { keepPreviousData, queryOptions, useMutation } from '@tanstack/react-query'
import { api, data, match, type Schemas } from '../api/client'
import { useEdit } from '../api/useEdit'

export type Person = Schemas['Person']
export type Group = Schemas['Group']
export type Network = Schemas['Network']
export type Machine = Schemas['Machine']
export type Standing = Schemas['Standing']

/** The people whose names contain a text, in one group or in any. */
export const peopleOptions = (text: string, group?: string) =>
  queryOptions({
    queryKey: ['people', text, group],
    placeholderData: keepPreviousData,
    queryFn: () => data(api.GET('/api/v1/people', { params: { query: { text, group, limit: 500 } } })),
  })

export const groupsOptions = queryOptions({
  queryKey: ['groups'],
  queryFn: async () => (await data(api.GET('/api/v1/groups'))).items,
})

export const networksOptions = queryOptions({
  queryKey: ['networks'],
  queryFn: async () => (await data(api.GET('/api/v1/networks'))).items,
})

export const machinesOptions = queryOptions({
  queryKey: ['machines'],
  queryFn: async () => (await data(api.GET('/api/v1/machines'))).items,
})

/** A person, machine or network, by any name or address. */
export const whoOptions = (name: string) =>
  queryOptions({
    queryKey: ['who', name],
    enabled: name !== '',
    retry: false,
    queryFn: () => data(api.GET('/api/v1/who', { params: { query: { name } } })),
  })

export const useMovePeople = () =>
  useEdit((body: Schemas['MovePeopleInputBody']) => data(api.POST('/api/v1/people/move', { body })))

export const useSavePerson = (person?: Person) =>
  useEdit((body: Schemas['PersonInput']) =>
    person
      ? data(
          api.PUT('/api/v1/people/{id}', {
            params: { path: { id: person.id }, header: match(person.version) },
            body,
          }),
        )
      : data(api.POST('/api/v1/people', { body })),
  )

export const useRemovePerson = () =>
  useEdit((p: Person) =>
    api.DELETE('/api/v1/people/{id}', { params: { path: { id: p.id }, header: match(p.version) } }),
  )

export const useSaveGroup = (group?: Group) =>
  useEdit((body: Schemas['GroupInput']) =>
    group
      ? data(api.PUT('/api/v1/groups/{id}', { params: { path: { id: group.id }, header: match(group.version) }, body }))
      : data(api.POST('/api/v1/groups', { body })),
  )

export const useRemoveGroup = () =>
  useEdit((g: Group) => api.DELETE('/api/v1/groups/{id}', { params: { path: { id: g.id }, header: match(g.version) } }))

export const useSaveNetwork = (network?: Network) =>
  useEdit((body: Schemas['NetworkInput']) =>
    network
      ? data(
          api.PUT('/api/v1/networks/{id}', {
            params: { path: { id: network.id }, header: match(network.version) },
            body,
          }),
        )
      : data(api.POST('/api/v1/networks', { body })),
  )

export const useRemoveNetwork = () =>
  useEdit((n: Network) =>
    api.DELETE('/api/v1/networks/{id}', { params: { path: { id: n.id }, header: match(n.version) } }),
  )

export const useSaveMachine = () =>
  useEdit((body: Schemas['MachineInput']) => data(api.POST('/api/v1/machines', { body })))

export const useRemoveMachine = () =>
  useEdit((m: Machine) =>
    api.DELETE('/api/v1/machines/{id}', { params: { path: { id: m.id }, header: match(m.version) } }),
  )

/** Who is at which address now. */
export const presencesOptions = queryOptions({
  queryKey: ['presences'],
  queryFn: async () => (await data(api.GET('/api/v1/presences'))).presences,
})

export const useSetPresence = () =>
  useEdit((body: Schemas['SetPresenceInputBody']) => data(api.PUT('/api/v1/presences', { body })))

export const useEndPresence = () =>
  useEdit((address: string) => api.DELETE('/api/v1/presences', { params: { query: { address } } }))

export type ImportRequest = { file: Blob; format: 'ldif' | 'csv'; preview: boolean; remove: boolean }

const importPeople = async ({ file, format, preview, remove }: ImportRequest) =>
  data(
    api.POST('/api/v1/people/import', {
      params: { query: { format, preview, remove } },
      headers: { 'Content-Type': 'text/plain' },
      body: await file.text(),
      bodySerializer: (body) => body,
    }),
  )

export const usePreviewPeople = () => useMutation({ mutationFn: importPeople })
export const useImportPeople = () => useEdit(importPeople)
