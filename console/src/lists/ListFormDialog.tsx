import { useState } from 'react'
import { ApiProblem } from '../api/client'
import { Check, TextArea, TextField } from '../ui/Field'
import { SaveDialog } from '../ui/SaveDialog'
import { ColourField } from './Colour'
import { type ListForm, listForm } from './listForm'
import type { List } from './listQueries'

type Props = {
  onClose: () => void
  title: string
  description: string
  /** The label of the button. */
  action: string
  initial: ListForm
  save: (form: ListForm) => Promise<List>
  told: (list: List) => string
  /** Called after saving; by default, the dialog closes. */
  then?: (list: List) => void
}

/** The name, description and mark of a new or existing list. */
export function ListFormDialog({ initial, save, ...frame }: Props) {
  const [form, setForm] = useState(initial)
  const checked = async () => {
    const read = listForm.safeParse(form)
    if (read.success) return save(read.data)
    const fields = read.error.issues.map((issue): [string, string] => [String(issue.path[0]), issue.message])
    throw new ApiProblem(422, 'Something in the form is wrong.', new Map(fields))
  }
  return (
    <SaveDialog {...frame} does="editList" ready save={checked}>
      {(wrong) => (
        <>
          <TextField
            label="Name"
            autoFocus
            value={form.name}
            onChange={(e) => setForm({ ...form, name: e.target.value })}
            error={wrong('name')}
          />
          <TextArea
            label="What it is for"
            rows={3}
            style={{ fontFamily: 'var(--font-sans)', fontSize: '1rem' }}
            value={form.description}
            onChange={(e) => setForm({ ...form, description: e.target.value })}
            error={wrong('description')}
          />
          <TextField
            label="Owner"
            hint="Who answers for it: a person or a team."
            value={form.owner}
            onChange={(e) => setForm({ ...form, owner: e.target.value })}
            error={wrong('owner')}
          />
          <Check
            label="Leads may put their groups on it for a while"
            checked={form.forStints}
            onChange={(forStints) => setForm({ ...form, forStints })}
          />
          <ColourField value={form.colour} onChange={(colour) => setForm({ ...form, colour })} />
        </>
      )}
    </SaveDialog>
  )
}
