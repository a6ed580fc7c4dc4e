import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { groupsOptions } from '../people/peopleQueries'
import { formatMoment } from '../ui/clock'
import { Choice } from '../ui/Field'
import { count } from '../ui/format'
import { Mono } from '../ui/Mono'
import { ProblemNotice } from '../ui/Notice'
import { cellClass, Head } from '../ui/Table'
import { type Gate, type HandedZone, zoneOptions } from './gateQueries'

const forms: [string, string][] = [
  ['rpz', 'a response policy zone'],
  ['hosts', 'hosts'],
  ['names', 'a name a line'],
  ['pac', 'a PAC file'],
]

/**
 * What is said of names, for other filters: the zones that DNS gates hand out, and a file for a group as of now, with what its form
 * cannot say.
 */
export function ZoneSection({ gates }: { gates: Gate[] }) {
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
        Resolvers take zones of names from the DNS gate, and again whenever something changes. What holds for a group
        now is also to be had as a file.
      </p>
      <HandedOut gates={gates} />
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

/** The zones that gates hand out, with who took them and how soon. */
function HandedOut({ gates }: { gates: Gate[] }) {
  const zones = gates.flatMap((g) => (g.zones ?? []).map((zone) => ({ gate: g.name, zone })))
  if (zones.length === 0) return null
  return (
    <table className="mb-4 w-full border-collapse">
      <thead>
        <tr>
          <Head>Zone</Head>
          <Head>Gate</Head>
          <Head>For</Head>
          <Head right>Names</Head>
          <Head>Made</Head>
          <Head>Taken by</Head>
        </tr>
      </thead>
      <tbody>
        {zones.map(({ gate, zone }) => (
          <tr key={`${gate} ${zone.origin}`} className="border-rule border-t align-top">
            <td className={cellClass}>
              <Mono>{zone.origin}</Mono>
            </td>
            <td className={cellClass}>{gate}</td>
            <td className={cellClass}>{zone.for}</td>
            <td className={`${cellClass} text-right`}>{zone.names.toLocaleString('en')}</td>
            <td className={cellClass}>{formatMoment(zone.madeAt)}</td>
            <td className={cellClass}>
              <Takers zone={zone} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

/** How many resolvers that took a zone are shown. */
const mostTakers = 5

function Takers({ zone }: { zone: HandedZone }) {
  if (zone.takers.length === 0) return <span className="text-soft">nobody yet</span>
  const last = zone.takers.slice(-mostTakers).reverse()
  return (
    <ul>
      {last.map((t) => (
        <li key={t.address}>
          <Mono>{t.address}</Mono>{' '}
          <span className="text-soft">
            {t.serial === zone.serial ? `after ${(t.millis / 1000).toFixed(1)} s` : `has that of ${formatMoment(t.at)}`}
          </span>
        </li>
      ))}
      {zone.takers.length > mostTakers && (
        <li className="text-soft">and {count(zone.takers.length - mostTakers, 'other', 'others')}</li>
      )}
    </ul>
  )
}
