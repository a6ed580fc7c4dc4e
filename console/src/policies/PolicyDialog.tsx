import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { CategoryPicker } from '../categories/CategoryPicker'
import { listsOptions } from '../lists/listQueries'
import { groupsOptions } from '../people/peopleQueries'
import { Check, TextField } from '../ui/Field'
import { RefPicker } from '../ui/RefPicker'
import { SaveDialog } from '../ui/SaveDialog'
import { type Policy, usePutPolicy } from './policyQueries'

/** Edits a policy except for its rules: name, groups, and inspection. */
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
  const submit = () => {
    const { name, description, all, butLists, butCategories } = form
    const inspect = all ? { all, butLists, butCategories } : undefined
    return put.mutateAsync({ policy, change: { name, description, groups: form.groups, inspect } })
  }
  return (
    <SaveDialog
      title={`Policy: ${policy.name}`}
      description="Whom it is for, and how much of their connections is seen."
      action="Save"
      ready={form.name.trim() !== ''}
      save={submit}
      told={(saved) => `Saved ${saved.name}.`}
      onClose={onClose}
    >
      {(wrong) => (
        <>
          <TextField
            label="Name"
            value={form.name}
            onChange={(e) => setForm({ ...form, name: e.target.value })}
            error={wrong('name')}
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
        </>
      )}
    </SaveDialog>
  )
}
