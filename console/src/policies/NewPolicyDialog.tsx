import { useQuery } from '@tanstack/react-query'
import { useNavigate } from '@tanstack/react-router'
import { type FormEvent, useState } from 'react'
import { trialOf } from '../address/trialSearch'
import { ApiProblem, type Schemas } from '../api/client'
import { listsOptions } from '../lists/listQueries'
import { groupsOptions } from '../people/peopleQueries'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { Dialog, DialogBody, DialogFoot } from '../ui/Dialog'
import { Choice, TextField } from '../ui/Field'
import { ProblemNotice } from '../ui/Notice'
import { type Named, RefPicker } from '../ui/RefPicker'
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
  const announce = useAnnounce()
  const fields = make.error instanceof ApiProblem ? make.error.fields : new Map<string, string>()
  const needsLists = start === 'only' || start === 'all-but'
  const submit = (event: FormEvent) => {
    event.preventDefault()
    afterwards(
      make.mutateAsync({ name, start, lists: lists.map((l) => l.id), groups: groups.map((g) => ({ id: g.id })) }),
      (made) => {
        announce(`Made ${made.name}.`)
        void navigate({ to: '/policies/$id', params: { id: made.id }, search: trialOf })
      },
    )
  }
  return (
    <Dialog
      open
      onOpenChange={(open) => open || onClose()}
      title="New policy"
      description="It begins with plain rules, which can all be changed afterwards."
    >
      <form onSubmit={submit} className="contents">
        <DialogBody>
          <TextField
            label="Name"
            value={name}
            onChange={(e) => setName(e.target.value)}
            error={fields.get('name')}
            autoFocus
          />
          <Choice label="Begin with" value={start} onChange={(v) => setStart(v as Start)} options={starts} />
          {needsLists && <RefPicker label="Lists" chosen={lists} offered={allLists.data ?? []} onChange={setLists} />}
          <RefPicker label="For the groups" chosen={groups} offered={allGroups.data ?? []} onChange={setGroups} />
          {make.error && fields.size === 0 && <ProblemNotice error={make.error} />}
        </DialogBody>
        <DialogFoot>
          <Button onClick={onClose}>Cancel</Button>
          <Button
            type="submit"
            look="main"
            disabled={name.trim() === '' || (needsLists && lists.length === 0) || make.isPending}
          >
            Make the policy
          </Button>
        </DialogFoot>
      </form>
    </Dialog>
  )
}
