import {
  infiniteQueryOptions,
  keepPreviousData,
  queryOptions,
  useMutation,
  useQueryClient,
} from '@tanstack/react-query'
import { api, data, match, type Schemas } from '../api/client'

export type List = Schemas['List']
export type Entry = Schemas['Entry']
export type Report = Schemas['Report']
export type Kind = Entry['kind']

/** How many entries a page of the table holds. */
const pageSize = 500

/** Every list. A service has hundreds at most, so they are fetched whole and filtered here. */
export const listsOptions = queryOptions({
  queryKey: ['lists'],
  queryFn: async () => {
    const lists: List[] = []
    let after: string | undefined
    do {
      const page = await data(api.GET('/api/v1/lists', { params: { query: { after, limit: 500 } } }))
      lists.push(...page.lists)
      after = page.next
    } while (after)
    return lists
  },
})

export const listOptions = (id: string) =>
  queryOptions({
    queryKey: ['lists', id],
    queryFn: () => data(api.GET('/api/v1/lists/{id}', { params: { path: { id } } })),
  })

/** Entries of all lists that mention a text of two characters at least. */
export const findOptions = (text: string) =>
  queryOptions({
    queryKey: ['lists', 'found', text],
    placeholderData: keepPreviousData,
    queryFn: () => data(api.GET('/api/v1/entries', { params: { query: { text, limit: 100 } } })),
  })

export type EntryFilter = { text: string; kind?: Kind }

/** The entries of a list, page by page as one scrolls. */
export const entriesOptions = (id: string, filter: EntryFilter) =>
  infiniteQueryOptions({
    queryKey: ['lists', id, 'entries', filter],
    initialPageParam: undefined as string | undefined,
    placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) =>
      data(
        api.GET('/api/v1/lists/{id}/entries', {
          params: { path: { id }, query: { after: pageParam, limit: pageSize, text: filter.text, kind: filter.kind } },
        }),
      ),
    getNextPageParam: (page) => page.next,
  })

/** What is to be fetched again after a list or its entries changed: all lists, and every trial. */
function useRefresh() {
  const client = useQueryClient()
  return () =>
    Promise.all([client.invalidateQueries({ queryKey: ['lists'] }), client.invalidateQueries({ queryKey: ['trials'] })])
}

export function useCreateList() {
  const refresh = useRefresh()
  return useMutation({
    mutationFn: (body: Schemas['NewListInputBody']) => data(api.POST('/api/v1/lists', { body })),
    onSuccess: refresh,
  })
}

export function useEditList(list: List) {
  const refresh = useRefresh()
  return useMutation({
    mutationFn: (body: Schemas['EditListInputBody']) =>
      data(api.PATCH('/api/v1/lists/{id}', { params: { path: { id: list.id }, header: match(list.version) }, body })),
    onSuccess: refresh,
  })
}

export function useDeleteList(list: List) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: () =>
      api.DELETE('/api/v1/lists/{id}', { params: { path: { id: list.id }, header: match(list.version) } }),
    onSuccess: async () => {
      client.removeQueries({ queryKey: ['lists', list.id] })
      await client.invalidateQueries({ queryKey: ['lists'], exact: true })
      await client.invalidateQueries({ queryKey: ['trials'] })
    },
  })
}

/** Sends text or a file as it is, byte by byte: the service reads it. */
const sendFile = (id: string, file: Blob | string, preview: boolean, replace: boolean) =>
  data(
    api.POST('/api/v1/lists/{id}/import', {
      params: { path: { id }, query: { preview, replace } },
      headers: { 'Content-Type': 'text/plain' },
      body: file as string,
      bodySerializer: (body) => body,
    }),
  )

/** What would become of each line and of the list; nothing is kept. */
export const previewOptions = (id: string, file: Blob | string, key: string, replace = false) =>
  queryOptions({
    queryKey: ['previews', id, key, replace],
    queryFn: () => sendFile(id, file, true, replace),
    placeholderData: keepPreviousData,
    gcTime: 0,
  })

export function useImport(id: string) {
  const refresh = useRefresh()
  return useMutation({
    mutationFn: ({ file, replace }: { file: Blob | string; replace: boolean }) => sendFile(id, file, false, replace),
    onSuccess: refresh,
  })
}

export function useRemoveEntries(id: string) {
  const refresh = useRefresh()
  return useMutation({
    mutationFn: (ids: number[]) =>
      data(api.POST('/api/v1/lists/{id}/entries/remove', { params: { path: { id } }, body: { ids } })),
    onSuccess: refresh,
  })
}
