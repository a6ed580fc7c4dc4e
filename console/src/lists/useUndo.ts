import { useQueryClient } from '@tanstack/react-query'
import { api, data } from '../api/client'
import { type Action, useAnnounce } from '../ui/announce'
import type { List } from './listQueries'

/**
 * Makes an action that brings a list's entries back to what they were when it was drawn. It is for the moment after one
 * change; the history has all others.
 */
export function useUndo(list: List) {
  const client = useQueryClient()
  const announce = useAnnounce()
  return (label = 'Undo'): Action => ({
    label,
    run: async () => {
      try {
        await data(
          api.POST('/api/v1/lists/{id}/take-back', {
            params: { path: { id: list.id } },
            body: { version: list.version },
          }),
        )
        announce(`${list.name} is as it was.`)
      } catch (error) {
        announce(error instanceof Error ? error.message : 'It could not be taken back.')
      }
      await client.invalidateQueries({ queryKey: ['lists'] })
      await client.invalidateQueries({ queryKey: ['trials'] })
    },
  })
}
