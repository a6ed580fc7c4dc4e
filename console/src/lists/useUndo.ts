import { api, data, match } from '../api/client'
import { type Action, useAnnounce } from '../ui/announce'
import { type List, useRefresh } from './listQueries'

/**
 * Returns an action that restores a list's entries to the state that the page showed. It is for the moment after one
 * change, whose version it is given: the service refuses it if somebody has edited the list since. The history has all other states.
 */
export function useUndo(list: List) {
  const refresh = useRefresh()
  const announce = useAnnounce()
  return (after: number | undefined, label = 'Undo'): Action => ({
    label,
    run: async () => {
      let restored: List | undefined
      try {
        restored = await data(
          api.POST('/api/v1/lists/{id}/take-back', {
            params: { path: { id: list.id }, header: after === undefined ? undefined : match(after) },
            body: { version: list.version },
          }),
        )
        announce(`${list.name} is as it was.`)
      } catch (error) {
        announce(error instanceof Error ? error.message : 'It could not be taken back.')
      }
      await refresh(restored)
    },
  })
}
