import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useAsked } from '../may/may'
import { groupsOptions, networksOptions, peopleOptions } from '../people/peopleQueries'
import { Check, TextField } from '../ui/Field'
import { RefPicker } from '../ui/RefPicker'
import { useSettled } from '../ui/useSettled'
import type { Exception } from './exceptionQueries'

type Whom = Exception['for']

type Props = {
  whom: Whom
  onChange: (whom: Whom) => void
  /** The problem of a field, by the beginning of its path. */
  wrong: (path: string) => string | undefined
}

/** The fields that say for whom an exception or a grant is. */
export function WhomFields({ whom, onChange, wrong }: Props) {
  const [text, setText] = useState('')
  const [addresses, setAddresses] = useState((whom.addresses ?? []).join(', '))
  const people = useQuery({ ...peopleOptions(useSettled(text)), enabled: text.trim() !== '' })
  const groups = useQuery(groupsOptions)
  const networks = useAsked('getNetworks', networksOptions)
  return (
    <>
      <Check
        label="For everybody"
        checked={whom.everybody === true}
        onChange={(on) => onChange(on ? { everybody: true } : {})}
      />
      {whom.everybody !== true && (
        <>
          <RefPicker
            label="People"
            chosen={whom.persons ?? []}
            offered={(people.data?.items ?? []).map((p) => ({ id: p.id, name: p.fullName || p.name }))}
            onText={setText}
            onChange={(persons) => onChange({ ...whom, persons })}
            placeholder="Type a name"
            error={wrong('for')}
          />
          <RefPicker
            label="Groups"
            chosen={whom.groups ?? []}
            offered={groups.data ?? []}
            onChange={(chosen) => onChange({ ...whom, groups: chosen })}
          />
          <RefPicker
            label="Networks"
            chosen={whom.networks ?? []}
            offered={networks.data ?? []}
            onChange={(chosen) => onChange({ ...whom, networks: chosen })}
          />
          <TextField
            label="Addresses"
            value={addresses}
            onChange={(e) => {
              setAddresses(e.target.value)
              onChange({ ...whom, addresses: e.target.value.split(/[\s,]+/).filter((a) => a !== '') })
            }}
            placeholder="10.40.9.7, 10.40.8.0/24"
            spellCheck={false}
            error={wrong('for.addresses')}
          />
        </>
      )}
    </>
  )
}
