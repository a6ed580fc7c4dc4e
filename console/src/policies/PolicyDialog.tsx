import { useQuery } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { ApiProblem } from '../api/client'
import { CategoryPicker } from '../categories/CategoryPicker'
import { listsOptions } from '../lists/listQueries'
import { groupsOptions } from '../people/peopleQueries'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { Dialog, DialogBody, DialogFoot } from '../ui/Dialog'
import { Check, TextField } from '../ui/Field'
import { ProblemNotice } from '../ui/Notice'
import { RefPicker } from '../ui/RefPicker'
import { type Policy, usePutPolicy } from './policyQueries'

/** Changes what is said about a policy, whom it is for, and which connections are opened. */
export function PolicyDialog({ policy, onClose }: { policy: Policy; onClose: () => void }) {
  const [form, setForm] = useState({
    name: policy.name,
    description: policy.description ?? '',
    groups: policy.groups,
    all: policy.inspect?.all ?? false,
    butLists: policy.inspect?.butLists ?? [],
    butCategories: policy.inspect?.butCategories ?? [],
  })
  const groups = useQuery(groupsOptions)
  const lists = useQuery(listsOptions)
  const put = usePutPolicy()
  const announce = useAnnounce()
  const fields = put.error instanceof ApiProblem ? put.error.fields : new Map<string, string>()
  const submit = (event: FormEvent) => {
    event.preventDefault()
    const { name, description, all, butLists, butCategories } = form
    const inspect = all ? { all, butLists, butCategories } : undefined
    afterwards(put.mutateAsync({ policy, change: { name, description, groups: form.groups, inspect } }), (saved) => {
      announce(`Saved ${saved.name}.`)
      onClose()
    })
  }
  return (
    <Dialog
      open
      onOpenChange={(open) => open || onClose()}
      title={`Policy: ${policy.name}`}
      description="Whom it is for, and how much of their connections is seen."
    >
      <form onSubmit={submit} className="contents">
        <DialogBody>
          <TextField
            label="Name"
            value={form.name}
            onChange={(e) => setForm({ ...form, name: e.target.value })}
            error={fields.get('name')}
          />
          <TextField
            label="Description"
            value={form.description}
            onChange={(e) => setForm({ ...form, description: e.target.value })}
          />
          {!policy.role && (
            <RefPicker
              label="For the groups"
              chosen={form.groups}
              offered={groups.data ?? []}
              onChange={(g) => setForm({ ...form, groups: g as typeof form.groups })}
            />
          )}
          {policy.role !== 'baseline' && (
            <Check
              label="Open TLS connections, so that whole URLs are seen"
              checked={form.all}
              onChange={(all) => setForm({ ...form, all })}
            />
          )}
          {form.all && (
            <>
              <CategoryPicker
                label="But not those to"
                chosen={form.butCategories}
                onChange={(butCategories) => setForm({ ...form, butCategories })}
              />
              <RefPicker
                label="And not those in the lists"
                chosen={form.butLists}
                offered={lists.data ?? []}
                onChange={(l) => setForm({ ...form, butLists: l as typeof form.butLists })}
              />
            </>
          )}
          {put.error && fields.size === 0 && <ProblemNotice error={put.error} />}
        </DialogBody>
        <DialogFoot>
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" look="main" disabled={form.name.trim() === '' || put.isPending}>
            Save
          </Button>
        </DialogFoot>
      </form>
    </Dialog>
  )
}
