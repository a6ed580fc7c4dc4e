import { type FormEvent, useState } from 'react'
import { ApiProblem } from '../api/client'
import { Button } from '../ui/Button'
import { Dialog, DialogBody, DialogFoot } from '../ui/Dialog'
import { TextArea, TextField } from '../ui/Field'
import { ProblemNotice } from '../ui/Notice'
import { ColourField } from './Colour'
import { type ListForm, listForm } from './listForm'

type Props = {
  onClose: () => void
  title: string
  description: string
  /** What the button says. */
  action: string
  initial: ListForm
  pending: boolean
  error: Error | null
  onSave: (form: ListForm) => void
}

/** What is said about a list: for a new one and for one that is changed. */
export function ListFormDialog({ onClose, title, description, action, initial, pending, error, onSave }: Props) {
  const [form, setForm] = useState(initial)
  const [wrong, setWrong] = useState<Partial<Record<keyof ListForm, string>>>({})
  const submit = (event: FormEvent) => {
    event.preventDefault()
    const checked = listForm.safeParse(form)
    if (checked.success) {
      setWrong({})
      onSave(checked.data)
    } else {
      setWrong(Object.fromEntries(checked.error.issues.map((issue) => [issue.path[0], issue.message])))
    }
  }
  const fields = error instanceof ApiProblem ? error.fields : new Map<string, string>()
  return (
    <Dialog open onOpenChange={(open) => open || onClose()} title={title} description={description}>
      <form onSubmit={submit} noValidate className="contents">
        <DialogBody>
          <TextField
            label="Name"
            autoFocus
            value={form.name}
            onChange={(e) => setForm({ ...form, name: e.target.value })}
            error={wrong.name ?? fields.get('name')}
          />
          <TextArea
            label="What it is for"
            rows={3}
            style={{ fontFamily: 'var(--font-sans)', fontSize: '1rem' }}
            value={form.description}
            onChange={(e) => setForm({ ...form, description: e.target.value })}
            error={wrong.description ?? fields.get('description')}
          />
          <TextField
            label="Owner"
            hint="Who answers for it: a person or a team."
            value={form.owner}
            onChange={(e) => setForm({ ...form, owner: e.target.value })}
            error={wrong.owner ?? fields.get('owner')}
          />
          <ColourField value={form.colour} onChange={(colour) => setForm({ ...form, colour })} />
          {error && fields.size === 0 && <ProblemNotice error={error} />}
        </DialogBody>
        <DialogFoot>
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" look="main" disabled={pending}>
            {action}
          </Button>
        </DialogFoot>
      </form>
    </Dialog>
  )
}
