import { useQuery } from '@tanstack/react-query'
import { clsx } from 'clsx'
import { useId } from 'react'
import { useAsked } from '../may/may'
import { fieldClass } from '../ui/Field'
import { useSettled } from '../ui/useSettled'
import { groupsOptions, machinesOptions, peopleOptions } from './peopleQueries'

type Props = { label: string; value: string; onChange: (text: string) => void; className?: string }

/** A field for who asks: it finds a person, a group, an address or a machine while one types. */
export function WhoField({ label, value, onChange, className }: Props) {
  const id = useId()
  const groups = useQuery(groupsOptions)
  const machines = useAsked('getMachines', machinesOptions)
  const people = useQuery(peopleOptions(useSettled(value)))
  return (
    <>
      <input
        aria-label={label}
        list={id}
        value={value}
        onChange={(e) => onChange(e.target.value)}
        placeholder="anybody"
        autoComplete="off"
        spellCheck={false}
        className={clsx(fieldClass, className)}
      />
      <datalist id={id}>
        {(groups.data ?? []).map((g) => (
          <option key={g.id} value={g.name}>
            group
          </option>
        ))}
        {(machines.data ?? []).map((m) => (
          <option key={m.id} value={m.name}>
            {m.address}
          </option>
        ))}
        {(people.data?.items ?? []).slice(0, 30).map((p) => (
          <option key={p.id} value={p.fullName || p.name}>
            {p.groups.map((g) => g.name).join(', ')}
          </option>
        ))}
      </datalist>
    </>
  )
}
