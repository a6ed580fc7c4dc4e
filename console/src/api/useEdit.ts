import { useMutation, useQueryClient } from '@tanstack/react-query'
import { withEdited } from './withEdited'

/**
 * A mutation of objects that decisions depend on: it may change everything on the page. The result is put into the cache at once,
 * so that the next edit starts from it, and not from data that is still being fetched.
 */
export function useEdit<In, Out>(mutationFn: (input: In) => Promise<Out>, key?: string) {
  const client = useQueryClient()
  return useMutation({
    mutationFn,
    onSuccess: (edited) => {
      if (key) client.setQueryData<{ id: string }[]>([key], (all) => withEdited(all, edited as { id: string }))
      return client.invalidateQueries()
    },
  })
}
