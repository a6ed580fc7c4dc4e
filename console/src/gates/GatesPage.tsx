import { useQuery } from '@tanstack/react-query'
import { clsx } from 'clsx'
import { formatMoment } from '../ui/clock'
import { count, formatNumber } from '../ui/format'
import { Mono } from '../ui/Mono'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head } from '../ui/Table'
import { AuthoritySection } from './AuthoritySection'
import { type Gate, gatesOptions } from './gateQueries'
import { LatestRecords } from './LatestRecords'
import { PointHere } from './PointHere'

/** The gates, what they run, what they decided last, and how clients come to them. */
export function GatesPage() {
  const found = useQuery(gatesOptions)
  return (
    <div className="flex h-full flex-col gap-6 overflow-y-auto px-5 pb-6">
      <div className="pt-4">
        <h1 className="font-semibold text-xl">Gates</h1>
        <p className="text-soft">Where requests are decided. Each says what it runs, and records what it decides.</p>
      </div>
      {found.isPending && <Loading what="the gates" />}
      {found.error && <ProblemNotice error={found.error} retry={() => found.refetch()} />}
      {found.data?.gates.length === 0 && (
        <EmptyNotice title="No gate runs yet">
          Start the service with <Mono>--gates proxy</Mono>, and it runs a proxy gate. It has what is live within a
          second of each publish.
        </EmptyNotice>
      )}
      {found.data && found.data.gates.length > 0 && (
        <>
          <GateTable gates={found.data.gates} live={found.data.live} />
          <Refusals gates={found.data.gates} />
          <PointHere gates={found.data.gates} />
        </>
      )}
      <AuthoritySection />
      <LatestRecords />
    </div>
  )
}

const stateInk: Record<Gate['state'], string> = {
  'up to date': 'text-reed',
  behind: 'text-ochre',
  'without rules': 'text-clay',
  silent: 'text-clay',
}

function GateTable({ gates, live }: { gates: Gate[]; live: number }) {
  return (
    <table className="w-full border-collapse">
      <thead>
        <tr>
          <Head>Gate</Head>
          <Head>Address</Head>
          <Head>State</Head>
          <Head right>Decided</Head>
          <Head right>Refused</Head>
          <Head right>Cut</Head>
          <Head right>Under way</Head>
          <Head>Records</Head>
        </tr>
      </thead>
      <tbody>
        {gates.map((g) => (
          <tr key={g.name}>
            <td className={cellClass}>
              <span className="font-semibold">{g.name}</span>
              <p className="text-sm text-soft">since {formatMoment(g.beganAt)}</p>
            </td>
            <td className={cellClass}>
              <Mono>{g.address}</Mono>
            </td>
            <td className={cellClass}>
              <span className={clsx('font-semibold', stateInk[g.state])}>{g.state}</span>
              <p className="text-sm text-soft">
                {g.state === 'silent'
                  ? `last heard of ${formatMoment(g.seenAt)}`
                  : `runs revision ${g.revision}${g.revision === live ? '' : `; live is ${live}`}`}
              </p>
            </td>
            <td className={`${cellClass} text-right`}>{formatNumber(g.decided)}</td>
            <td className={`${cellClass} text-right`}>{formatNumber(g.refused)}</td>
            <td className={`${cellClass} text-right`}>{formatNumber(g.cut)}</td>
            <td className={`${cellClass} text-right`}>{formatNumber(g.running)}</td>
            <td className={cellClass}>
              {formatNumber(g.written)} written
              {g.waiting > 0 && `, ${formatNumber(g.waiting)} waiting`}
              {g.dropped > 0 && (
                <span className="font-semibold text-clay">, {count(g.dropped, 'record', 'records')} dropped</span>
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

/** Hosts for which clients refused the gate's certificate: they do not trust the authority, or expect a certificate of their own. */
function Refusals({ gates }: { gates: Gate[] }) {
  const all = gates.flatMap((g) => g.refusals.map((r) => ({ gate: g.name, ...r })))
  if (all.length === 0) return null
  return (
    <section aria-label="Refuses inspection">
      <h2 className="pb-1 font-semibold">Clients refuse to have these opened</h2>
      <p className="pb-2 text-soft text-sm">
        They do not trust the gates' authority, or expect a certificate that they know. Add the host to a list that the
        policy does not open, or install the authority.
      </p>
      <ul>
        {all.slice(0, 20).map((r) => (
          <li key={`${r.gate} ${r.host}`} className="flex gap-4 border-rule border-t py-1 text-sm">
            <Mono>{r.host}</Mono>
            <span className="text-soft">
              {count(r.times, 'time', 'times')} by {count(r.clients, 'client', 'clients')}, last {formatMoment(r.last)}
            </span>
          </li>
        ))}
      </ul>
    </section>
  )
}
