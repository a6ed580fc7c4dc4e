import { useQuery } from '@tanstack/react-query'
import { useNavigate } from '@tanstack/react-router'
import { useState } from 'react'
import { trialOf } from '../address/trialSearch'
import type { Schemas } from '../api/client'
import { listsOptions } from '../lists/listQueries'
import { groupsOptions } from '../people/peopleQueries'
import { Choice, TextField } from '../ui/Field'
import { type Named, RefPicker } from '../ui/RefPicker'
import { SaveDialog } from '../ui/SaveDialog'
import { useStartPolicy } from './policyQueries'

type Start = Schemas['StartInputBody']['start'] | 'empty'

const starts: [Start, string][] = [
  ['balanced', 'Balanced: no dangers, nothing unfit; the unknown is flagged'],
  ['careful', 'Careful: the unknown waits, programs and distractions are blocked'],
  ['open', 'Open: everything but dangers'],
  ['only', 'Only these lists, everything else blocked'],
  ['all-but', 'All but these lists'],
  ['off', 'Everything off'],
  ['empty', 'Empty: no rules, all allowed'],
]

export function NewPolicyDialog({ onClose }: { onClose: () => void }) {
  const [name, setName] = useState('')
  const [start, setStart] = useState<Start>('balanced')
  const [lists, setLists] = useState<Named[]>([])
  const [groups, setGroups] = useState<Named[]>([])
  const allLists = useQuery(listsOptions)
  const allGroups = useQuery(groupsOptions)
  const make = useStartPolicy()
  const navigate = useNavigate()
  const needsLists = start === 'only' || start === 'all-but'
  return (
    <SaveDialog
      title="New policy"
      does="addPolicy"
      description="It begins with plain rules, which can all be changed afterwards."
      action="Make the policy"
      ready={name.trim() !== '' && !(needsLists && lists.length === 0)}
      save={() =>
        make.mutateAsync({ name, start, lists: lists.map((l) => l.id), groups: groups.map((g) => ({ id: g.id })) })
      }
      told={(made) => `Made ${made.name}.`}
      then={(made) => void navigate({ to: '/policies/$id', params: { id: made.id }, search: trialOf })}
      onClose={onClose}
    >
      {(wrong) => (
        <>
          <TextField
            label="Name"
            value={name}
            onChange={(e) => setName(e.target.value)}
            error={wrong('name')}
            autoFocus
          />
          <Choice label="Begin with" value={start} onChange={(v) => setStart(v as Start)} options={starts} />
          {needsLists && <RefPicker label="Lists" chosen={lists} offered={allLists.data ?? []} onChange={setLists} />}
          <RefPicker label="For the groups" chosen={groups} offered={allGroups.data ?? []} onChange={setGroups} />
        </>
      )}
    </SaveDialog>
  )
}
