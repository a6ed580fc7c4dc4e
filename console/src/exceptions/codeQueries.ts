import { queryOptions } from '@tanstack/react-query'
import { api, data, type Schemas } from '../api/client'
import { useEdit } from '../api/useEdit'

export type Code = Schemas['Code']
export type Passage = Schemas['Passage']

/** Codes that can be entered, and who has come past a hold. */
export const codesOptions = queryOptions({
  queryKey: ['codes'],
  refetchInterval: 10_000,
  queryFn: () => data(api.GET('/api/v1/codes')),
})

export const useAddCode = () => useEdit((body: Schemas['CodeBody']) => data(api.POST('/api/v1/codes', { body })))

export const useEndCode = () => useEdit((id: string) => api.DELETE('/api/v1/codes/{id}', { params: { path: { id } } }))

export const useEndPassage = () =>
  useEdit((id: string) => api.DELETE('/api/v1/passages/{id}', { params: { path: { id } } }))

/** Families and categories by their keys, as a code can open them. */
export const classesOptions = queryOptions({
  queryKey: ['categories', 'keys'],
  queryFn: async () => {
    const { families, categories } = await data(api.GET('/api/v1/categories'))
    return [...families, ...categories].map(({ key, name }) => ({ id: key, name }))
  },
})
