import { useQuery } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { ApiProblem } from '../api/client'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { Dialog, DialogBody, DialogFoot } from '../ui/Dialog'
import { DialogDelete } from '../ui/DialogDelete'
import { TextField } from '../ui/Field'
import { ProblemNotice } from '../ui/Notice'
import { RefPicker } from '../ui/RefPicker'
import { groupsOptions, type Person, useRemovePerson, useSavePerson } from './peopleQueries'

/** Adds a person, or changes one. */
export function PersonDialog({ person, onClose }: { person?: Person; onClose: () => void }) {
  const [form, setForm] = useState({
    name: person?.name ?? '',
    fullName: person?.fullName ?? '',
    mail: person?.mail ?? '',
    groups: person?.groups ?? [],
  })
  const groups = useQuery(groupsOptions)
  const save = useSavePerson(person)
  const remove = useRemovePerson()
  const announce = useAnnounce()
  const fields = save.error instanceof ApiProblem ? save.error.fields : new Map<string, string>()
  const submit = (event: FormEvent) => {
    event.preventDefault()
    afterwards(save.mutateAsync({ ...form, mail: form.mail || undefined, key: person?.key }), (saved) => {
      announce(`Saved ${saved.fullName || saved.name}.`)
      onClose()
    })
  }
  return (
    <Dialog
      open
      onOpenChange={(open) => open || onClose()}
      title={person ? person.fullName || person.name : 'New person'}
      description="A request of this person belongs to these groups, wherever it comes from."
    >
      <form onSubmit={submit} className="contents">
        <DialogBody>
          <TextField
            label="Signs in as"
            value={form.name}
            onChange={(e) => setForm({ ...form, name: e.target.value })}
            error={fields.get('name')}
            autoFocus={!person}
          />
          <TextField
            label="Full name"
            value={form.fullName}
            onChange={(e) => setForm({ ...form, fullName: e.target.value })}
          />
          <TextField label="Mail" value={form.mail} onChange={(e) => setForm({ ...form, mail: e.target.value })} />
          <RefPicker
            label="Groups"
            chosen={form.groups}
            offered={groups.data ?? []}
            onChange={(g) => setForm({ ...form, groups: g })}
          />
          {save.error && fields.size === 0 && <ProblemNotice error={save.error} />}
          {remove.error && <ProblemNotice error={remove.error} />}
        </DialogBody>
        <DialogFoot>
          {person && <DialogDelete thing={person} remove={remove} onDeleted={onClose} />}
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" look="main" disabled={form.name.trim() === '' || save.isPending}>
            {person ? 'Save' : 'Add the person'}
          </Button>
        </DialogFoot>
      </form>
    </Dialog>
  )
}
