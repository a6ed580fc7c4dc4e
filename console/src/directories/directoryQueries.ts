import { queryOptions, useMutation, useQueryClient } from '@tanstack/react-query'
import { api, data, type Schemas } from '../api/client'

export type Directory = Schemas['Directory']
export type DirectoryState = Schemas['DirectoryState']
export type DirectoryChange = Schemas['DirectoryChange']

const key = ['directories']

/** The directories, asked for again now and then: they are read on a timetable. */
export const directoriesOptions = queryOptions({
  queryKey: key,
  queryFn: async () => (await data(api.GET('/api/v1/directories'))).directories,
  refetchInterval: 10_000,
})

/** Who comes, changes and goes between two states; 0 for the one in force and for the one that waits. */
export const directoryChangesOptions = (d: Directory, from: number, to: number, limit: number) =>
  queryOptions({
    queryKey: [...key, d.id, 'changes', from, to, limit, d.inForce?.number, d.waiting?.number],
    queryFn: () =>
      data(api.GET('/api/v1/directories/{id}/changes', { params: { path: { id: d.id }, query: { from, to, limit } } })),
  })

export const directoryHistoryOptions = (d: Directory) =>
  queryOptions({
    queryKey: [...key, d.id, 'history', d.inForce?.number, d.waiting?.number],
    queryFn: () => data(api.GET('/api/v1/directories/{id}/history', { params: { path: { id: d.id } } })),
  })

/** What a directory says is in force everywhere at once, so everything is asked for again. */
function useDirectoryEdit<In, Out>(mutationFn: (input: In) => Promise<Out>) {
  const client = useQueryClient()
  return useMutation({ mutationFn, onSuccess: () => client.invalidateQueries() })
}

export const useAddDirectory = () =>
  useDirectoryEdit((body: Schemas['NewDirectoryInputBody']) => data(api.POST('/api/v1/directories', { body })))

export const useEditDirectory = (id: string) =>
  useDirectoryEdit((body: Schemas['EditDirectoryInputBody']) =>
    data(api.PATCH('/api/v1/directories/{id}', { params: { path: { id } }, body })),
  )

export const useRemoveDirectory = () =>
  useDirectoryEdit(({ id }: { id: string; name: string }) =>
    api.DELETE('/api/v1/directories/{id}', { params: { path: { id } } }),
  )

export const useSyncDirectory = (id: string) =>
  useDirectoryEdit(() => data(api.POST('/api/v1/directories/{id}/sync', { params: { path: { id } } })))

export const useImportDirectory = (id: string) =>
  useDirectoryEdit((file: Blob) =>
    data(
      api.POST('/api/v1/directories/{id}/import', {
        params: { path: { id } },
        body: file as unknown as string,
        bodySerializer: (body) => body,
        headers: { 'Content-Type': 'text/plain' },
      }),
    ),
  )

export const usePreviewDirectory = (id: string) =>
  useMutation({
    mutationFn: () => data(api.POST('/api/v1/directories/{id}/preview', { params: { path: { id } } })),
  })

export const useSettleDirectory = (id: string) =>
  useDirectoryEdit(({ verb, number }: { verb: 'accept' | 'refuse'; number: number }) =>
    data(
      verb === 'accept'
        ? api.POST('/api/v1/directories/{id}/accept', { params: { path: { id } }, body: { number } })
        : api.POST('/api/v1/directories/{id}/refuse', { params: { path: { id } }, body: { number } }),
    ),
  )

export const useUndoDirectory = (id: string) =>
  useDirectoryEdit(() => data(api.POST('/api/v1/directories/{id}/undo', { params: { path: { id } } })))

/** Hands people of the draft over to a directory, or only says what would happen. */
export const useAdoptDirectory = (id: string) => {
  const client = useQueryClient()
  return useMutation({
    mutationFn: ({ preview }: { preview: boolean }) =>
      data(api.POST('/api/v1/directories/{id}/adopt', { params: { path: { id }, query: { preview } } })),
    onSuccess: (_, { preview }) => (preview ? undefined : client.invalidateQueries()),
  })
}

export const useDirectoryToken = (id: string) =>
  useDirectoryEdit(() => data(api.POST('/api/v1/directories/{id}/token', { params: { path: { id } } })))
