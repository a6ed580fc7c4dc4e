import { queryOptions, useMutation, useQueryClient } from '@tanstack/react-query'
import { api, data, type Schemas } from '../api/client'
import { useRefreshCategories } from '../categories/categoryQueries'

export type Pack = Schemas['Pack']
export type PackState = Schemas['PackState']

/** Every pack, by rank. While the service reads a pack file, the console fetches this every second. */
export const packsOptions = queryOptions({
  queryKey: ['packs'],
  queryFn: async () => (await data(api.GET('/api/v1/packs'))).packs,
  refetchInterval: (query) => (query.state.data?.some((p) => p.progress) ? 1000 : false),
})

export const packOptions = (id: string) =>
  queryOptions({
    queryKey: ['packs', id],
    queryFn: () => data(api.GET('/api/v1/packs/{id}', { params: { path: { id } } })),
    refetchInterval: (query) => (query.state.data?.progress ? 700 : false),
  })

export const packHistoryOptions = (id: string) =>
  queryOptions({
    queryKey: ['packs', id, 'history'],
    queryFn: () => data(api.GET('/api/v1/packs/{id}/history', { params: { path: { id } } })),
  })

/** The changes between two versions of a pack; by default, between the one in force and the waiting one. */
export const packChangesOptions = (id: string, from = 0, to = 0, limit = 100) =>
  queryOptions({
    queryKey: ['packs', id, 'changes', from, to, limit],
    queryFn: () =>
      data(api.GET('/api/v1/packs/{id}/changes', { params: { path: { id }, query: { from, to, limit } } })),
  })

export const packKeysOptions = queryOptions({
  queryKey: ['packs', 'keys'],
  queryFn: async () => (await data(api.GET('/api/v1/pack-keys'))).keys,
})

export function useCreatePack() {
  const refresh = useRefreshCategories()
  return useMutation({
    mutationFn: (body: Schemas['NewPackInputBody']) => data(api.POST('/api/v1/packs', { body })),
    onSuccess: refresh,
  })
}

export function useEditPack(id: string) {
  const refresh = useRefreshCategories()
  return useMutation({
    mutationFn: (body: Schemas['EditPackInputBody']) =>
      data(api.PATCH('/api/v1/packs/{id}', { params: { path: { id } }, body })),
    onSuccess: refresh,
  })
}

export function useDeletePack(id: string) {
  const refresh = useRefreshCategories()
  return useMutation({
    mutationFn: () => api.DELETE('/api/v1/packs/{id}', { params: { path: { id } } }),
    onSuccess: refresh,
  })
}

/** Pulls a pack or, given a file, imports it. Meanwhile the console fetches its progress. */
export function useFillPack(id: string) {
  const refresh = useRefreshCategories()
  const client = useQueryClient()
  return useMutation({
    mutationFn: async ({ file, force }: { file?: Blob; force?: boolean }) => {
      const progress = setInterval(() => client.invalidateQueries({ queryKey: ['packs', id], exact: true }), 700)
      try {
        const params = { path: { id }, query: { force } }
        return await (file
          ? data(
              api.POST('/api/v1/packs/{id}/import', {
                params,
                headers: { 'Content-Type': 'application/octet-stream' },
                body: file as unknown as string,
                bodySerializer: (body) => body,
              }),
            )
          : data(api.POST('/api/v1/packs/{id}/pull', { params })))
      } finally {
        clearInterval(progress)
      }
    },
    onSettled: refresh,
  })
}

/** Accepts or refuses the waiting update. */
export function useSettlePack(pack: Pack) {
  const refresh = useRefreshCategories()
  return useMutation({
    mutationFn: (verb: 'accept' | 'refuse') => {
      const params = { path: { id: pack.id } }
      const body = { number: pack.waiting?.number ?? 0 }
      return verb === 'accept'
        ? data(api.POST('/api/v1/packs/{id}/accept', { params, body }))
        : data(api.POST('/api/v1/packs/{id}/refuse', { params, body }))
    },
    onSettled: refresh,
  })
}

export function useUndoPack(id: string) {
  const refresh = useRefreshCategories()
  return useMutation({
    mutationFn: () => data(api.POST('/api/v1/packs/{id}/undo', { params: { path: { id } } })),
    onSettled: refresh,
  })
}

export function useTrust() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (body: Schemas['TrustInputBody']) => api.POST('/api/v1/pack-keys', { body }),
    onSuccess: () => client.invalidateQueries({ queryKey: ['packs', 'keys'] }),
  })
}

export function useDistrust() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (key: string) => api.DELETE('/api/v1/pack-keys', { params: { query: { key } } }),
    onSuccess: () => client.invalidateQueries({ queryKey: ['packs', 'keys'] }),
  })
}
