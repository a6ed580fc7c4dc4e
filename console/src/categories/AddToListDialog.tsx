import { useQuery } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { listsOptions, useAddLines } from '../lists/listQueries'
import { type Place, PlaceChoice } from '../places/PlaceChoice'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { Dialog, DialogBody, DialogFoot } from '../ui/Dialog'
import { Choice, TextField } from '../ui/Field'
import { ProblemNotice } from '../ui/Notice'

type Props = { places: Place[]; onClose: () => void }

/** Puts a page, host or site into a list. */
export function AddToListDialog({ places, onClose }: Props) {
  const lists = useQuery(listsOptions)
  const [place, setPlace] = useState(places.at(-1)?.entry ?? '')
  const [list, setList] = useState('')
  const [note, setNote] = useState('')
  const add = useAddLines(list)
  const announce = useAnnounce()
  const submit = (event: FormEvent) => {
    event.preventDefault()
    const line = note.trim() ? `${place} # ${note.trim()}` : place
    afterwards(add.mutateAsync([line]), (report) => {
      const name = lists.data?.find((l) => l.id === list)?.name
      announce(report.added > 0 ? `Added ${place} to ${name}.` : `${name} has ${place} already.`)
      onClose()
    })
  }
  return (
    <Dialog
      open
      onOpenChange={(open) => open || onClose()}
      title="Add to a list"
      description="What becomes of it then is for the rules that name the list to say."
    >
      <form onSubmit={submit} className="contents">
        <DialogBody>
          <PlaceChoice label="What" places={places} chosen={place} onChange={setPlace} />
          <Choice
            label="To the list"
            value={list}
            onChange={setList}
            options={[['', 'Choose a list'], ...(lists.data ?? []).map((l): [string, string] => [l.id, l.name])]}
          />
          <TextField label="Note" value={note} onChange={(e) => setNote(e.target.value)} placeholder="may stay empty" />
          {add.error && <ProblemNotice error={add.error} />}
        </DialogBody>
        <DialogFoot>
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" look="main" disabled={list === '' || add.isPending}>
            Add it
          </Button>
        </DialogFoot>
      </form>
    </Dialog>
  )
}
