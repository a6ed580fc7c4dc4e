import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { listsOptions, useAddLines } from '../lists/listQueries'
import { type Place, PlaceChoice } from '../places/PlaceChoice'
import { Choice, TextField } from '../ui/Field'
import { SaveDialog } from '../ui/SaveDialog'

type Props = { places: Place[]; onClose: () => void }

/** Puts a page, host or site into a list. */
export function AddToListDialog({ places, onClose }: Props) {
  const lists = useQuery(listsOptions)
  const [place, setPlace] = useState(places.at(-1)?.entry ?? '')
  const [list, setList] = useState('')
  const [note, setNote] = useState('')
  const add = useAddLines(list)
  const submit = () => {
    const line = note.trim() ? `${place} # ${note.trim()}` : place
    return add.mutateAsync([line])
  }
  return (
    <SaveDialog
      title="Add to a list"
      does="addEntries"
      description="What becomes of it then is for the rules that name the list to say."
      action="Add it"
      ready={list !== ''}
      save={submit}
      told={(report) => {
        const name = lists.data?.find((l) => l.id === list)?.name
        return report.added > 0 ? `Added ${place} to ${name}.` : `${name} has ${place} already.`
      }}
      onClose={onClose}
    >
      {() => (
        <>
          <PlaceChoice label="What" places={places} chosen={place} onChange={setPlace} />
          <Choice
            label="To the list"
            value={list}
            onChange={setList}
            options={[['', 'Choose a list'], ...(lists.data ?? []).map((l): [string, string] => [l.id, l.name])]}
          />
          <TextField label="Note" value={note} onChange={(e) => setNote(e.target.value)} placeholder="may stay empty" />
        </>
      )}
    </SaveDialog>
  )
}
