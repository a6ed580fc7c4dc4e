import { queryOptions } from '@tanstack/react-query'
import { api, data, match, type Schemas } from '../api/client'
import { useEdit } from '../api/useEdit'

export type Exception = Schemas['Exception']
export type ExceptionInput = Schemas['ExceptionInput']

export const exceptionsOptions = queryOptions({
  queryKey: ['exceptions'],
  queryFn: async () => (await data(api.GET('/api/v1/exceptions'))).items,
})

export const useSaveException = (exception?: Exception) =>
  useEdit((body: ExceptionInput) =>
    exception
      ? data(
          api.PUT('/api/v1/exceptions/{id}', {
            params: { path: { id: exception.id }, header: match(exception.version) },
            body,
          }),
        )
      : data(api.POST('/api/v1/exceptions', { body })),
  )

export const useRemoveException = () =>
  useEdit((e: Exception) =>
    api.DELETE('/api/v1/exceptions/{id}', { params: { path: { id: e.id }, header: match(e.version) } }),
  )
