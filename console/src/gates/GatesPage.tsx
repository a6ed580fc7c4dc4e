import { useQuery } from '@tanstack/react-query'
import { clsx } from 'clsx'
import { useEffect, useRef, useState } from 'react'
import { May } from '../may/may'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { count, formatNumber } from '../ui/format'
import { Mono } from '../ui/Mono'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head } from '../ui/Table'
import { AuthoritySection } from './AuthoritySection'
import { EnrolDialog, NewEnrolment } from './EnrolDialog'
import { type Enrolment, type Gate, gatesOptions, useNeverOpen, useRetireGate } from './gateQueries'
import { LatestRecords } from './LatestRecords'
import { PointHere } from './PointHere'
import { ZoneSection } from './ZoneSection'

/** The gates, what they run, what they decided last, and how clients come to them. */
export function GatesPage() {
  const found = useQuery(gatesOptions)
  const [enrolling, setEnrolling] = useState(false)
  const [made, setMade] = useState<Enrolment>()
  return (
    <div className="flex h-full flex-col gap-6 overflow-y-auto px-5 pb-6">
      <div className="flex items-start gap-3 pt-4">
        <div className="grow">
          <h1 className="font-semibold text-xl">Gates</h1>
          <p className="text-soft">Where requests are decided. Each says what it runs, and records what it decides.</p>
        </div>
        <Button does="enrolGate" onClick={() => setEnrolling(true)}>
          Enrol a gate
        </Button>
      </div>
      {made && <NewEnrolment enrolment={made} />}
      {enrolling && <EnrolDialog onMade={setMade} onClose={() => setEnrolling(false)} />}
      {found.isPending && <Loading what="the gates" />}
      {found.error && <ProblemNotice error={found.error} retry={() => found.refetch()} />}
      {found.data?.gates.length === 0 && (
        <EmptyNotice title="No gate runs yet">
          Start the service with <Mono>--gates proxy</Mono>, and it runs a proxy gate; or enrol one that runs on another
          machine. It has what is live within two seconds of each publish.
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
      <ZoneSection gates={found.data?.gates ?? []} />
      <May does="getLatestRecords" on={{ people: true }}>
        <LatestRecords />
      </May>
    </div>
  )
}

const stateInk: Record<Gate['state'], string> = {
  'up to date': 'text-reed',
  behind: 'text-ochre',
  'without rules': 'text-clay',
  'clock is wrong': 'text-clay',
  silent: 'text-clay',
  enrolled: 'text-soft',
}

/** How many requests a second a gate decided between the last two reports, as far as two are known. */
function useRate(gate: Gate): number | undefined {
  const before = useRef({ decided: gate.decided, seen: gate.seenAt })
  const [rate, setRate] = useState<number>()
  useEffect(() => {
    const seconds = (Date.parse(gate.seenAt) - Date.parse(before.current.seen)) / 1000
    if (seconds <= 0) return
    setRate(Math.max(0, gate.decided - before.current.decided) / seconds)
    before.current = { decided: gate.decided, seen: gate.seenAt }
  }, [gate.decided, gate.seenAt])
  return rate
}

/** What a gate runs, in a line. */
function runs(g: Gate, live: number): string {
  if (g.state === 'enrolled') return `by a code, ${formatMoment(g.seenAt)}; it has not reported yet`
  if (g.state === 'silent') return `last heard of ${formatMoment(g.seenAt)}`
  if (g.state === 'clock is wrong')
    return `by ${formatNumber(Math.round((g.clockMillis ?? 0) / 100) / 10)} s beside the database's`
  return `runs revision ${g.revision}${g.revision === live ? '' : `; live is ${live}`}`
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
          <Head className="w-20">
            <span className="sr-only">Do</span>
          </Head>
        </tr>
      </thead>
      <tbody>
        {gates.map((g) => (
          <GateRow key={g.name} gate={g} live={live} />
        ))}
      </tbody>
    </table>
  )
}

function GateRow({ gate: g, live }: { gate: Gate; live: number }) {
  const retire = useRetireGate()
  const announce = useAnnounce()
  const rate = useRate(g)
  return (
    <tr>
      <td className={cellClass}>
        <span className="font-semibold">{g.name}</span>
        <p className="text-sm text-soft">
          {g.elsewhere ? 'elsewhere, ' : ''}since {formatMoment(g.beganAt)}
        </p>
        {retire.error && <ProblemNotice error={retire.error} />}
      </td>
      <td className={cellClass}>
        <Mono>{g.address}</Mono>
      </td>
      <td className={cellClass}>
        <span className={clsx('font-semibold', stateInk[g.state])}>{g.state}</span>
        <p className="text-sm text-soft">{runs(g, live)}</p>
        {g.edition && g.digest && (
          <p className="text-sm text-soft">
            edition {g.edition}, <Mono>{g.digest.slice(0, 10)}</Mono>
          </p>
        )}
        {g.trouble && <p className="text-clay text-sm">{g.trouble}</p>}
      </td>
      <td className={`${cellClass} text-right`}>
        {formatNumber(g.decided)}
        {rate !== undefined && <p className="text-sm text-soft">{formatNumber(Math.round(rate))} a second</p>}
      </td>
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
      <td className={cellClass}>
        {g.elsewhere && (
          <Button
            does="retireGate"
            aria-label={`Retire ${g.name}`}
            disabled={retire.isPending}
            onClick={() =>
              afterwards(retire.mutateAsync(g.name), () => announce(`Retired ${g.name}. Stop it on its machine, too.`))
            }
          >
            Retire
          </Button>
        )}
      </td>
    </tr>
  )
}

/** Hosts for which clients refused the gate's certificate: they do not trust the authority, or expect a certificate of their own. */
function Refusals({ gates }: { gates: Gate[] }) {
  const all = gates.flatMap((g) => g.refusals.map((r) => ({ gate: g.name, ...r })))
  const neverOpen = useNeverOpen()
  const announce = useAnnounce()
  if (all.length === 0) return null
  const leaveClosed = (host: string) =>
    afterwards(neverOpen.mutateAsync(host), (done) =>
      announce(
        done.policies.length === 0
          ? `${host} is in the list ${done.list.name}; no policy of the draft opens connections.`
          : `${host} is in the list ${done.list.name}, and ${done.policies.map((p) => p.name).join(', ')} will not open connections to it. Publish it to put it in force.`,
      ),
    )
  return (
    <section aria-label="Refuses inspection">
      <h2 className="pb-1 font-semibold">Clients refuse to have these opened</h2>
      <p className="pb-2 text-soft text-sm">
        They do not trust the gates' authority, or expect a certificate that they know. Install the authority there, or
        never open connections to the host.
      </p>
      {neverOpen.error && <ProblemNotice error={neverOpen.error} />}
      <ul>
        {all.slice(0, 20).map((r) => (
          <li key={`${r.gate} ${r.host}`} className="flex items-center gap-4 border-rule border-t py-1 text-sm">
            <Mono>{r.host}</Mono>
            <span className="grow text-soft">
              {count(r.times, 'time', 'times')} by {count(r.clients, 'client', 'clients')}, last {formatMoment(r.last)}
            </span>
            <Button
              does="neverOpen"
              aria-label={`Never open connections to ${r.host}`}
              disabled={neverOpen.isPending}
              onClick={() => leaveClosed(r.host)}
            >
              Never open
            </Button>
          </li>
        ))}
      </ul>
    </section>
  )
}
