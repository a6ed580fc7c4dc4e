import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { groupsOptions } from '../people/peopleQueries'
import { Choice } from '../ui/Field'
import { ProblemNotice } from '../ui/Notice'
import { zoneOptions } from './gateQueries'

const forms: [string, string][] = [
  ['rpz', 'a response policy zone'],
  ['hosts', 'hosts'],
  ['names', 'a name a line'],
  ['pac', 'a PAC file'],
]

/** What is said of names to a group now, as a file for another filter, with what the form cannot say. */
export function ZoneSection() {
  const groups = useQuery(groupsOptions)
  const [group, setGroup] = useState('')
  const [form, setForm] = useState<'rpz' | 'hosts' | 'names' | 'pac'>('rpz')
  const [errs, setErrs] = useState<'open' | 'close'>('open')
  const zone = useQuery({ ...zoneOptions(form, group, errs), enabled: group !== '' })
  const query = new URLSearchParams({ group, errs })
  return (
    <section aria-label="For other filters">
      <h2 className="font-semibold">For other filters</h2>
      <p className="pb-2 text-sm text-soft">
        What is said of names to the members of a group now, as a file. The DNS gate hands out such zones by itself.
      </p>
      <div className="grid max-w-3xl grid-cols-3 gap-3">
        <Choice
          label="For the group"
          value={group}
          onChange={setGroup}
          options={[['', 'choose one'], ...(groups.data ?? []).map((g): [string, string] => [g.id, g.name])]}
        />
        <Choice label="As" value={form} onChange={(f) => setForm(f as typeof form)} options={forms} />
        <Choice
          label="Where a name does not tell"
          value={errs}
          onChange={(e) => setErrs(e as typeof errs)}
          options={[
            ['open', 'it is left open'],
            ['close', 'it is closed'],
          ]}
        />
      </div>
      {zone.error && <ProblemNotice error={zone.error} retry={() => zone.refetch()} />}
      {zone.data && (
        <div className="pt-3">
          <p>
            <a className="font-semibold underline underline-offset-2" href={`/api/v1/zones/${form}?${query}`} download>
              Save the file
            </a>{' '}
            <span className="text-sm text-soft">{zone.data.lines.toLocaleString('en')} lines</span>
          </p>
          {zone.data.unsaid.length > 0 && (
            <>
              <p className="pt-2 text-sm">What this form cannot say:</p>
              <ul className="text-sm text-soft">
                {zone.data.unsaid.map((line) => (
                  <li key={line}>{line}</li>
                ))}
              </ul>
            </>
          )}
        </div>
      )}
    </section>
  )
}
