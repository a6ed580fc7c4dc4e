import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { TextField } from '../ui/Field'
import { RefPicker } from '../ui/RefPicker'
import { SaveDialog } from '../ui/SaveDialog'
import { groupsOptions, type Person, useRemovePerson, useSavePerson } from './peopleQueries'

/** Creates or edits a person. */
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
  return (
    <SaveDialog
      title={person ? person.fullName || person.name : 'New person'}
      does="putPerson"
      description="A request of this person belongs to these groups, wherever it comes from."
      action={person ? 'Save' : 'Add the person'}
      ready={form.name.trim() !== ''}
      save={() => save.mutateAsync({ ...form, mail: form.mail || undefined, key: person?.key })}
      told={(saved) => `Saved ${saved.fullName || saved.name}.`}
      fixed={person?.directory && `From the directory ${person.directory.name}, and edited there.`}
      remove={person && { thing: person, by: remove }}
      onClose={onClose}
    >
      {(wrong) => (
        <>
          <TextField
            label="Signs in as"
            value={form.name}
            onChange={(e) => setForm({ ...form, name: e.target.value })}
            error={wrong('name')}
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
            offered={(groups.data ?? []).filter((g) => !g.directory)}
            onChange={(g) => setForm({ ...form, groups: g })}
          />
        </>
      )}
    </SaveDialog>
  )
}
