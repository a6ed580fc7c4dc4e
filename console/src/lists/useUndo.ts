import { useQueryClient } from '@tanstack/react-query'
import { api, data, match } from '../api/client'
import { type Action, useAnnounce } from '../ui/announce'
import type { List } from './listQueries'

/**
 * Returns an action that restores a list's entries to the state that the page showed. It is for the moment after one
 * change, whose version it is given: the service refuses it if somebody has edited the list since. The history has all other states.
 */
export function useUndo(list: List) {
  const client = useQueryClient()
  const announce = useAnnounce()
  return (after: number | undefined, label = 'Undo'): Action => ({
    label,
    run: async () => {
      try {
        await data(
          api.POST('/api/v1/lists/{id}/take-back', {
            params: { path: { id: list.id }, header: after === undefined ? undefined : match(after) },
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
