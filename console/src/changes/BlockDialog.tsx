import { useQuery } from '@tanstack/react-query'
import { useNavigate } from '@tanstack/react-router'
import { useState } from 'react'
import { policiesOptions, type Rule } from '../policies/policyQueries'
import { Choice as Options, TextField } from '../ui/Field'
import { SaveDialog } from '../ui/SaveDialog'
import { type Choice, useBlock } from './changeQueries'

const thens: [Rule['then'], string][] = [
  ['block', '■ Block'],
  ['hold', '◇ Hold until it is unlocked'],
  ['watch', '◐ Allow and flag'],
]

/** Makes a rule of the draft of what was looked at. */
export function BlockDialog({ choice, onClose }: { choice: Choice; onClose: () => void }) {
  const policies = useQuery(policiesOptions)
  const [name, setName] = useState('')
  const [then, setThen] = useState<Rule['then']>('block')
  const [policy, setPolicy] = useState('')
  const block = useBlock()
  const navigate = useNavigate()
  const open = (policies.data ?? []).filter((p) => p.role !== 'baseline')
  const into = open.find((p) => p.id === policy) ?? open[0]
  return (
    <SaveDialog
      title="Make it a rule"
      does="putPolicy"
      description={
        choice.entries.length > 0
          ? 'The last rule of a policy of the draft. The entries go into a new list of the rule’s name.'
          : 'The last rule of a policy of the draft.'
      }
      action="Add the rule"
      ready={name.trim() !== '' && into !== undefined}
      save={async () => into && block.mutateAsync({ choice, policy: into, rule: { name, then, if: {} } })}
      told={() => `${name} is a rule of ${into?.name}, in the draft.`}
      then={() => {
        onClose()
        if (into) void navigate({ to: '/policies/$id', params: { id: into.id } })
      }}
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
          <Options
            label="In the policy"
            value={into?.id ?? ''}
            onChange={setPolicy}
            options={open.map((p) => [p.id, p.name])}
          />
          <Options label="Then" value={then} onChange={(t) => setThen(t as Rule['then'])} options={thens} />
        </>
      )}
    </SaveDialog>
  )
}
