import {
  infiniteQueryOptions,
  keepPreviousData,
  queryOptions,
  useMutation,
  useQueryClient,
} from '@tanstack/react-query'
import { api, data, match, type Schemas } from '../api/client'
import { withEdited } from '../api/withEdited'

export type List = Schemas['List']
export type Entry = Schemas['Entry']
export type Report = Schemas['Report']
export type Kind = Entry['kind']
export type Selection = Schemas['Selection']
export type Source = Schemas['Source']
export type FindingKind = Schemas['Finding']['kind']

/** The number of entries of a page of the table. */
const pageSize = 500

/** Every list. A service has hundreds at most, so the console fetches all and filters them itself. */
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

/** The entries of all lists that contain a text of at least two characters. */
export const findOptions = (text: string) =>
  queryOptions({
    queryKey: ['lists', 'found', text],
    placeholderData: keepPreviousData,
    queryFn: () => data(api.GET('/api/v1/entries', { params: { query: { text, limit: 100 } } })),
  })

export type EntryFilter = { text: string; kind?: Kind }

/** The entries of a list, page by page. */
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

/** The list in the answer to an edit: the answer itself, or its field `list`. */
function listIn(answer: unknown): List | undefined {
  const found = (answer as { list?: List } | undefined)?.list ?? (answer as Partial<List> | undefined)
  return found?.id !== undefined && found.version !== undefined && found.entryCount !== undefined
    ? (found as List)
    : undefined
}

/**
 * Invalidates everything that depends on a list or its entries: all lists, and every trial. A list in the answer is put into the cache at
 * once, so that the next edit starts from it, and not from one that is still being fetched.
 */
export function useRefresh() {
  const client = useQueryClient()
  return (answer?: unknown) => {
    const list = listIn(answer)
    if (list) {
      client.setQueryData(listOptions(list.id).queryKey, list)
      client.setQueryData(listsOptions.queryKey, (all) => withEdited(all, list))
    }
    return Promise.all([
      client.invalidateQueries({ queryKey: ['lists'] }),
      client.invalidateQueries({ queryKey: ['trials'] }),
    ])
  }
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

/** The options of reading a file. */
export type FileReading = { format: 'lines' | 'csv' | 'jsonl' | 'zone'; column?: string; noteColumn?: string }

/** Sends a text or a file unchanged; the service reads it. */
const sendFile = (
  id: string,
  file: Blob | string,
  preview: boolean,
  replace: boolean,
  reading: FileReading,
  report = 1000,
) =>
  data(
    api.POST('/api/v1/lists/{id}/import', {
      params: { path: { id }, query: { preview, replace, report, ...reading } },
      headers: { 'Content-Type': typeof file === 'string' ? 'text/plain' : 'application/octet-stream' },
      body: file as string,
      bodySerializer: (body) => body,
    }),
  )

const asLines: FileReading = { format: 'lines' }

/** The result of an import for each line and for the list, without saving anything. */
export const previewOptions = (id: string, file: Blob | string, key: string, replace = false, reading = asLines) =>
  queryOptions({
    queryKey: ['previews', id, key, replace, reading],
    queryFn: () => sendFile(id, file, true, replace, reading),
    placeholderData: keepPreviousData,
    gcTime: 0,
  })

/** The report on a file with every changed or refused line, to be saved as a file. */
export const fullReport = (id: string, file: Blob | string, replace: boolean, reading: FileReading) =>
  sendFile(id, file, true, replace, reading, 100_000)

export function useImport(id: string) {
  const refresh = useRefresh()
  return useMutation({
    mutationFn: ({
      file,
      replace,
      reading = asLines,
    }: {
      file: Blob | string
      replace: boolean
      reading?: FileReading
    }) => sendFile(id, file, false, replace, reading),
    onSuccess: refresh,
  })
}

/** Names the version of the list that the page shows. If somebody has edited the list since, the chosen entries may be gone, and the service refuses. */
const seen = (list: List) => ({ path: { id: list.id }, header: match(list.version) })

export function useRemoveEntries(list: List) {
  const refresh = useRefresh()
  return useMutation({
    mutationFn: (body: Selection) => data(api.POST('/api/v1/lists/{id}/entries/remove', { params: seen(list), body })),
    onSettled: refresh,
  })
}

export function useSetEntries(list: List) {
  const refresh = useRefresh()
  return useMutation({
    mutationFn: (body: Schemas['EditEntriesInputBody']) =>
      data(api.PATCH('/api/v1/lists/{id}/entries', { params: seen(list), body })),
    onSettled: refresh,
  })
}

export function useCopyEntries(list: List) {
  const refresh = useRefresh()
  return useMutation({
    mutationFn: (body: Schemas['CopyEntriesInputBody']) =>
      data(api.POST('/api/v1/lists/{id}/entries/copy', { params: seen(list), body })),
    onSettled: refresh,
  })
}

export function useAddLines(id: string) {
  const refresh = useRefresh()
  return useMutation({
    mutationFn: (lines: string[]) =>
      data(api.POST('/api/v1/lists/{id}/entries', { params: { path: { id } }, body: { lines, reading: 'exact' } })),
    onSuccess: refresh,
  })
}

/** A list as text: whole, or the first lines that match a filter. */
export const textOptions = (list: List, filter?: EntryFilter) =>
  queryOptions({
    queryKey: ['lists', list.id, 'text', list.version, filter ?? 'whole'],
    staleTime: Number.POSITIVE_INFINITY, // a version does not change
    queryFn: async () => {
      const lines: Entry[] = []
      let after: string | undefined
      let total = 0
      do {
        const page = await data(
          api.GET('/api/v1/lists/{id}/entries', {
            params: { path: { id: list.id }, query: { after, limit: 2000, text: filter?.text, kind: filter?.kind } },
          }),
        )
        lines.push(...page.entries)
        total = page.total
        after = filter ? undefined : page.next
      } while (after)
      return { text: lines.map((entry) => entry.text).join('\n'), ids: lines.map((entry) => entry.id), total }
    },
  })

export function useRewrite(list: List) {
  const refresh = useRefresh()
  return useMutation({
    mutationFn: (lines: string[]) =>
      data(
        api.PUT('/api/v1/lists/{id}/text', {
          params: { path: { id: list.id }, header: match(list.version) },
          body: { lines },
        }),
      ),
    onSuccess: refresh,
  })
}

/** Removes lines from a long list and adds others. If new lines are refused, it reports them before anything is removed. */
export function useRewritePage(list: List) {
  const refresh = useRefresh()
  return useMutation({
    mutationFn: async ({ ids, lines }: { ids: number[]; lines: string[] }) => {
      let version = list.version
      if (lines.length > 0) {
        const preview = await sendFile(list.id, lines.join('\n'), true, false, asLines)
        const wrong = preview.refusedLines[0]
        if (wrong) throw new Error(`Nothing was saved. "${wrong.text}": ${wrong.message}`)
      }
      if (ids.length > 0) {
        const { list: after } = await data(
          api.POST('/api/v1/lists/{id}/entries/remove', { params: seen({ ...list, version }), body: { ids } }),
        )
        version = after.version
      }
      if (lines.length > 0) {
        const body = { lines, reading: 'exact' as const }
        await data(api.POST('/api/v1/lists/{id}/entries', { params: seen({ ...list, version }), body }))
      }
    },
    onSettled: refresh,
  })
}

/** The findings about a list at a version. */
export const findingsOptions = (id: string, version: number, kind?: FindingKind) =>
  queryOptions({
    queryKey: ['lists', id, 'findings', version, kind ?? 'all'],
    placeholderData: keepPreviousData,
    queryFn: () =>
      data(
        api.GET('/api/v1/lists/{id}/findings', {
          params: { path: { id }, query: { kind: kind ? [kind] : undefined, limit: 500 } },
        }),
      ),
  })

export function useTidy(list: List) {
  const refresh = useRefresh()
  return useMutation({
    mutationFn: (preview: boolean) =>
      data(
        api.POST('/api/v1/lists/{id}/tidy', {
          params: { path: { id: list.id }, header: match(list.version) },
          body: { preview },
        }),
      ),
    onSuccess: (_, preview) => (preview ? undefined : refresh()),
  })
}

export const historyOptions = (id: string) =>
  infiniteQueryOptions({
    queryKey: ['lists', id, 'history'],
    initialPageParam: undefined as string | undefined,
    queryFn: ({ pageParam }) =>
      data(
        api.GET('/api/v1/lists/{id}/history', { params: { path: { id }, query: { before: pageParam, limit: 100 } } }),
      ),
    getNextPageParam: (page) => page.next,
  })

export const compareOptions = (id: string, from: number, to: number) =>
  queryOptions({
    queryKey: ['lists', id, 'compare', from, to],
    queryFn: () =>
      data(api.GET('/api/v1/lists/{id}/compare', { params: { path: { id }, query: { from, to, limit: 500 } } })),
  })

export function useTakeBack(list: List) {
  const refresh = useRefresh()
  return useMutation({
    mutationFn: (version: number) =>
      data(
        api.POST('/api/v1/lists/{id}/take-back', {
          params: { path: { id: list.id }, header: match(list.version) },
          body: { version },
        }),
      ),
    onSuccess: refresh,
  })
}

/** The source of a list; null if people maintain it. */
export const sourceOptions = (id: string) =>
  queryOptions({
    queryKey: ['lists', id, 'source'],
    queryFn: async () => {
      const all = await data(api.GET('/api/v1/sources'))
      return all.sources.find((source) => source.listId === id) ?? null
    },
  })

export function useSetSource(id: string) {
  const refresh = useRefresh()
  return useMutation({
    mutationFn: (body: Schemas['SetSourceInputBody']) =>
      data(api.PUT('/api/v1/lists/{id}/source', { params: { path: { id } }, body })),
    onSuccess: refresh,
  })
}

export function useRemoveSource(id: string) {
  const refresh = useRefresh()
  return useMutation({
    mutationFn: () => api.DELETE('/api/v1/lists/{id}/source', { params: { path: { id } } }),
    onSuccess: refresh,
  })
}

export function usePull(id: string) {
  const refresh = useRefresh()
  return useMutation({
    mutationFn: (force: boolean) =>
      data(api.POST('/api/v1/lists/{id}/source/pull', { params: { path: { id }, query: { force } } })),
    onSuccess: refresh,
  })
}

/** The hosts that a recorded page needs. */
/** Hosts that pages in a list load from, by what was recorded. */
export const recordedCompanionsOptions = (id: string) =>
  queryOptions({
    queryKey: ['lists', id, 'companions'],
    queryFn: async () =>
      (await data(api.GET('/api/v1/lists/{id}/companions', { params: { path: { id } } }))).companions,
  })

export function useCompanions(id: string) {
  return useMutation({
    mutationFn: (file: Blob) =>
      data(
        api.POST('/api/v1/lists/{id}/companions', {
          params: { path: { id } },
          headers: { 'Content-Type': 'application/octet-stream' },
          body: file as unknown as string,
          bodySerializer: (body) => body,
        }),
      ),
  })
}
