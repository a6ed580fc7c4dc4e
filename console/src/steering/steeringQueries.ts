import { keepPreviousData, queryOptions, useMutation, useQueryClient } from '@tanstack/react-query'
import { api, data, type Schemas } from '../api/client'

export type Steering = Schemas['SteeringOutputBody']
export type LedGroup = Schemas['LedGroup']
export type Stint = Schemas['Stint']
export type NewStint = Schemas['NewStint']
export type Preview = Schemas['PreviewStintOutputBody']
export type OwnList = Schemas['OwnList']

const key = ['steering']

/** What a lead can choose, and what the groups are on now. Other leads change it, too. */
export const steeringOptions = queryOptions({
  queryKey: key,
  refetchInterval: 5_000,
  queryFn: () => data(api.GET('/api/v1/steering')),
})

/** What a stint would leave open, and what would be missing. */
export const previewOptions = (body: NewStint | null) =>
  queryOptions({
    queryKey: [...key, 'preview', body],
    enabled: body !== null,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () => data(api.POST('/api/v1/stints/preview', { body: body as NewStint })),
  })

/** The people of a group. */
export const membersOptions = (group: string) =>
  queryOptions({
    queryKey: ['people', 'of', group],
    queryFn: async () => (await data(api.GET('/api/v1/people', { params: { query: { group, limit: 500 } } }))).items,
  })

/** What a group has asked for since a stint began: hosts that were refused most, and by whom. */
export const sinceOptions = (group: string, minutes: number) =>
  queryOptions({
    queryKey: ['journal', 'stint', group, minutes],
    placeholderData: keepPreviousData,
    refetchInterval: 10_000,
    retry: false,
    queryFn: () =>
      data(
        api.GET('/api/v1/journal/summary', {
          params: {
            query: {
              q: `group:"${group.replaceAll('"', '\\"')}" since:${Math.max(1, minutes)}m`,
              by: ['host', 'person'],
              top: 200,
              order: 'block',
            },
          },
        }),
      ),
  })

function useSteer<In, Out>(mutationFn: (input: In) => Promise<Out>) {
  const client = useQueryClient()
  return useMutation({ mutationFn, onSuccess: () => client.invalidateQueries({ queryKey: key }) })
}

export const useStart = () =>
  useSteer((body: Schemas['StartStintInputBody']) => data(api.POST('/api/v1/stints', { body })))

export const useEnd = () => useSteer((id: string) => api.DELETE('/api/v1/stints/{id}', { params: { path: { id } } }))

export const useTakeOver = () =>
  useSteer((id: string) => data(api.POST('/api/v1/stints/{id}/taking', { params: { path: { id } } })))

export const useSetDone = (id: string) =>
  useSteer((body: Schemas['DoneInputBody']) =>
    data(api.PUT('/api/v1/stints/{id}/done', { params: { path: { id } }, body })),
  )

export const usePutOwn = (id?: string) =>
  useSteer(({ group, ...body }: Schemas['AddOwnListInputBody']) =>
    id
      ? data(api.PUT('/api/v1/group-lists/{id}', { params: { path: { id } }, body }))
      : data(api.POST('/api/v1/group-lists', { body: { group, ...body } })),
  )

export const useRemoveOwn = () =>
  useSteer(({ id }: { id: string; name: string }) =>
    api.DELETE('/api/v1/group-lists/{id}', { params: { path: { id } } }),
  )
