import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { CategoryPicker } from '../categories/CategoryPicker'
import { listsOptions } from '../lists/listQueries'
import { groupsOptions } from '../people/peopleQueries'
import { Check, Choice, TextField } from '../ui/Field'
import { RefPicker } from '../ui/RefPicker'
import { SaveDialog } from '../ui/SaveDialog'
import { type Policy, usePutPolicy } from './policyQueries'

/** Edits a policy except for its rules: name, groups, inspection, and what is recorded. */
export function PolicyDialog({ policy, onClose }: { policy: Policy; onClose: () => void }) {
  const [form, setForm] = useState({
    name: policy.name,
    description: policy.description ?? '',
    groups: policy.groups,
    all: policy.inspect?.all ?? false,
    pages: policy.inspect?.pages ?? false,
    butLists: policy.inspect?.butLists ?? [],
    butCategories: policy.inspect?.butCategories ?? [],
    amount: policy.records?.amount ?? ('everything' as const),
    words: policy.records?.words ?? false,
    names: policy.names || ('none' as const),
    unheld: policy.unheld || ('pass' as const),
  })
  const groups = useQuery(groupsOptions)
  const lists = useQuery(listsOptions)
  const put = usePutPolicy()
  const submit = () => {
    const { name, description, all, butLists, butCategories, amount } = form
    const pages = form.pages || undefined
    const inspect = all ? { all, butLists, butCategories, pages } : pages && { all, pages }
    const records = { amount, words: form.words && amount === 'everything' }
    return put.mutateAsync({
      policy,
      change: {
        name,
        description,
        groups: form.groups,
        inspect,
        names: form.names,
        unheld: form.unheld,
        records: policy.role === 'baseline' ? undefined : records,
      },
    })
  }
  return (
    <SaveDialog
      title={`Policy: ${policy.name}`}
      does="putPolicy"
      description="Whom it is for, how much of their connections is seen, and how much is recorded."
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
          {policy.role !== 'baseline' && (
            <Check
              label="Open those that are refused, only to show the page that says so"
              checked={form.pages}
              onChange={(pages) => setForm({ ...form, pages })}
            />
          )}
          {policy.role !== 'baseline' && (
            <Choice
              label="Of its decisions is recorded"
              value={form.amount}
              onChange={(amount) => setForm({ ...form, amount: amount as typeof form.amount })}
              options={[
                ['everything', 'everything'],
                ['group', 'the host, the groups and the network, not who asks'],
                ['nothing', 'nothing; they are counted'],
              ]}
            />
          )}
          {policy.role !== 'baseline' && form.amount === 'everything' && (
            <Check
              label="What is searched for, too"
              checked={form.words}
              onChange={(words) => setForm({ ...form, words })}
            />
          )}
          {policy.role !== 'baseline' && (
            <Choice
              label="The DNS gate answers a refused name with"
              value={form.names}
              onChange={(names) => setForm({ ...form, names: names as typeof form.names })}
              options={[
                ['none', 'that there is no such name'],
                ['refused', 'a refusal'],
                ['page', 'the address of the page that says so'],
              ]}
            />
          )}
          <Check
            label="Block what a gate cannot hold of what rules bind to, in place of letting it pass without"
            checked={form.unheld === 'block'}
            onChange={(on) => setForm({ ...form, unheld: on ? 'block' : 'pass' })}
          />
        </>
      )}
    </SaveDialog>
  )
}
