import {
  infiniteQueryOptions,
  keepPreviousData,
  queryOptions,
  useMutation,
  useQueryClient,
} from '@tanstack/react-query'
import { api, data, match, type Schemas } from '../api/client'

export type Category = Schemas['Category']
export type Family = Schemas['Family']
export type CategoryRef = Schemas['CategoryRef']
export type Correction = Schemas['Correction']
export type Scorecard = Schemas['ScorecardBody']
export type Lookup = Schemas['Lookup']
export type Given = Schemas['Given']
export type Score = Schemas['Score']
export type Term = Schemas['Term']

/** Families and categories; with a text, those that match it, the best match first. */
export const categoriesOptions = (text = '') =>
  queryOptions({
    queryKey: ['categories', 'tree', text],
    placeholderData: keepPreviousData,
    queryFn: () => data(api.GET('/api/v1/categories', { params: { query: { text } } })),
  })

/** The catalogue's sites of a category or family, page by page. */
export const sitesOptions = (key: string, text: string) =>
  infiniteQueryOptions({
    queryKey: ['categories', 'sites', key, text],
    initialPageParam: undefined as string | undefined,
    placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) =>
      data(
        api.GET('/api/v1/categories/{key}/sites', {
          params: { path: { key }, query: { text, after: pageParam, limit: 100 } },
        }),
      ),
    getNextPageParam: (page) => page.next,
  })

export const correctionsOptions = (text: string) =>
  infiniteQueryOptions({
    queryKey: ['categories', 'corrections', text],
    initialPageParam: undefined as string | undefined,
    placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) =>
      data(api.GET('/api/v1/corrections', { params: { query: { text, after: pageParam, limit: 200 } } })),
    getNextPageParam: (page) => page.next,
  })

export const unratedOptions = (limit: number) =>
  queryOptions({
    queryKey: ['categories', 'unrated', limit],
    placeholderData: keepPreviousData,
    queryFn: () => data(api.GET('/api/v1/unrated', { params: { query: { limit } } })),
  })

export const scorecardsOptions = queryOptions({
  queryKey: ['categories', 'scorecards'],
  queryFn: () => data(api.GET('/api/v1/scorecards')),
})

/** The categories of one URL, with all details. */
export const lookupOptions = (url: string) =>
  queryOptions({
    queryKey: ['categories', 'lookup', url],
    queryFn: async () => {
      const answer = await data(api.POST('/api/v1/lookups', { body: { urls: [url], detail: true } }))
      return answer.lookups[0]
    },
  })

/** The categories of many URLs. */
export function useLookupMany() {
  return useMutation({ mutationFn: (urls: string[]) => data(api.POST('/api/v1/lookups', { body: { urls } })) })
}

/** The score of a text with every scorecard, or with words that are not saved. */
export const scoreOptions = (text: string, words?: { threshold: number; terms: Term[] }) =>
  queryOptions({
    queryKey: ['categories', 'score', text, words ?? 'kept'],
    placeholderData: keepPreviousData,
    queryFn: () => data(api.POST('/api/v1/scorecards/score', { body: { text, ...words } })),
  })

/** Invalidates everything that depends on the categories of URLs. */
export function useRefreshCategories() {
  const client = useQueryClient()
  return () =>
    Promise.all([
      client.invalidateQueries({ queryKey: ['categories'] }),
      client.invalidateQueries({ queryKey: ['trials'] }),
      client.invalidateQueries({ queryKey: ['packs'] }),
    ])
}

export function useCorrect() {
  const refresh = useRefreshCategories()
  return useMutation({
    mutationFn: (body: Schemas['CorrectInputBody']) => data(api.POST('/api/v1/corrections', { body })),
    onSuccess: refresh,
  })
}

export function useUncorrect() {
  const refresh = useRefreshCategories()
  return useMutation({
    mutationFn: (id: number) => api.DELETE('/api/v1/corrections/{id}', { params: { path: { id } } }),
    onSuccess: refresh,
  })
}

/** Creates a category or, given one, edits it. */
export function useSaveCategory(own?: Category['own']) {
  const refresh = useRefreshCategories()
  return useMutation({
    mutationFn: (body: Schemas['NewCategoryInputBody']) =>
      own
        ? data(
            api.PATCH('/api/v1/categories/{id}', {
              params: { path: { id: own.id }, header: match(own.version) },
              body,
            }),
          )
        : data(api.POST('/api/v1/categories', { body })),
    onSuccess: refresh,
  })
}

export function useDeleteCategory() {
  const refresh = useRefreshCategories()
  return useMutation({
    mutationFn: (own: NonNullable<Category['own']>) =>
      api.DELETE('/api/v1/categories/{id}', { params: { path: { id: own.id }, header: match(own.version) } }),
    onSuccess: refresh,
  })
}

/** Creates a scorecard or, given one, edits it. */
export function useSaveScorecard(card?: Scorecard) {
  const refresh = useRefreshCategories()
  return useMutation({
    mutationFn: (body: Schemas['NewScorecardInputBody']) =>
      card
        ? data(
            api.PATCH('/api/v1/scorecards/{id}', {
              params: { path: { id: card.id }, header: match(card.version) },
              body,
            }),
          )
        : data(api.POST('/api/v1/scorecards', { body })),
    onSuccess: refresh,
  })
}

export function useDeleteScorecard() {
  const refresh = useRefreshCategories()
  return useMutation({
    mutationFn: (card: Scorecard) =>
      api.DELETE('/api/v1/scorecards/{id}', { params: { path: { id: card.id }, header: match(card.version) } }),
    onSuccess: refresh,
  })
}
