import { useMutation, useQueryClient } from '@tanstack/react-query'
import { withEdited } from './withEdited'

/**
 * An edit of who asks or what is decided: everything on the page may read otherwise after it. What comes back stands under its key at once,
 * so that the next edit is made from it, and not from what is fetched again meanwhile.
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
