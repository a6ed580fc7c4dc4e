import { useQuery } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import { X } from 'lucide-react'
import type { ReactNode } from 'react'
import { TryLink } from '../trials/TryLink'
import { IconButton } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { formatNumber } from '../ui/format'
import { Mono } from '../ui/Mono'
import { Loading, ProblemNotice } from '../ui/Notice'
import { VerdictMark } from '../ui/VerdictMark'
import { quoted } from '../usage/quoted'
import { type JournalRecord, recordOptions, whyOptions } from './journalQueries'
import { RecordActions } from './RecordActions'

/** Everything that one record says, and what can be done about it. */
export function RecordPanel({ id, onClose }: { id: string; onClose: () => void }) {
  const found = useQuery(recordOptions(id))
  return (
    <aside aria-label="Record" className="w-96 shrink-0 overflow-y-auto border-rule border-l bg-leaf px-5 py-4">
      <div className="flex items-start gap-2">
        <h2 className="grow font-semibold text-sm text-soft">Record</h2>
        <IconButton label="Close the record" onClick={onClose}>
          <X size={17} aria-hidden />
        </IconButton>
      </div>
      {found.isPending && <Loading what="the record" />}
      {found.error && <ProblemNotice error={found.error} retry={() => found.refetch()} />}
      {found.data && <RecordFacts record={found.data} />}
    </aside>
  )
}

function RecordFacts({ record: r }: { record: JournalRecord }) {
  const host = r.url.replace(/^[a-z]+:\/\//, '').replace(/[:/?].*$/, '')
  const at = new Date(r.at).getTime()
  const iso = (ms: number) => new Date(ms).toISOString()
  const around = (hours: number) => `since:${iso(at - hours * 3600_000)} until:${iso(at + 60_000)}`
  return (
    <>
      <p className="py-2">
        <Mono>{r.url}</Mono>
      </p>
      <VerdictMark verdict={r.verdict} large />
      <p className="pb-3">{r.by}</p>
      {r.id && <Why id={r.id} />}
      {r.amount !== 'group' && <RecordActions record={r} />}
      <ul className="flex flex-col gap-1 border-rule border-y py-2 text-sm">
        <li>
          <TryLink url={r.url} as={r.who ?? r.address} at="now">
            Try it now, with every step
          </TryLink>
        </li>
        <li>
          <TryLink url={r.url} as={r.who ?? r.address} at={r.at}>
            Try it at that moment under the draft
          </TryLink>
        </li>
        {(r.who || r.address) && (
          <li>
            <Find q={`${r.who ? `person:${quoted(r.who)}` : `address:${r.address}`} ${around(1)}`}>
              The hour before of {r.who ?? r.address}
            </Find>
          </li>
        )}
        {(r.who || r.address) && (
          <li>
            <Find
              q={`${r.who ? `person:${quoted(r.who)}` : `address:${r.address}`} (referrer:${quoted(host)} or host:${quoted(host)}) since:${iso(at - 1000)} until:${iso(at + 30_000)}`}
            >
              Everything that loaded with this page
            </Find>
          </li>
        )}
        <li>
          <Find q={`site:${quoted(host)} since:7d`}>All requests to {host} in a week</Find>
        </li>
        {r.ruleId && (
          <li>
            <Find q={`rule:${r.ruleId} since:7d`}>Everything that this rule decided in a week</Find>
          </li>
        )}
      </ul>
      <dl className="grid grid-cols-[6.5rem_1fr] gap-y-1 pt-3 text-sm">
        <Fact name="When">{formatMoment(r.at)}</Fact>
        <Fact name="Who">{r.who}</Fact>
        <Fact name="Groups">{r.groups?.join(', ')}</Fact>
        <Fact name="Address">{r.address}</Fact>
        <Fact name="Machine">{r.machine}</Fact>
        <Fact name="Network">{r.network}</Fact>
        <Fact name="Method">{r.method}</Fact>
        <Fact name="Entry">{r.entry && <Mono>{r.entry}</Mono>}</Fact>
        <Fact name="List">{r.list}</Fact>
        <Fact name="Categories">{r.categories?.join(', ')}</Fact>
        <Fact name="Says so">{r.source}</Fact>
        <Fact name="Rung">{r.rung}</Fact>
        <Fact name="Provisos">{r.provisos}</Fact>
        <Fact name="Not held">{r.notHeld}</Fact>
        <Fact name="Traits">{r.traits?.join(', ')}</Fact>
        <Fact name="Searched">{r.words}</Fact>
        <Fact name="Outcome">{[r.outcome, r.status].filter(Boolean).join(' ')}</Fact>
        <Fact name="Type">{r.media}</Fact>
        <Fact name="Size">{r.size ? `${formatNumber(r.size)} bytes` : ''}</Fact>
        <Fact name="Took">{r.millis ? `${formatNumber(r.millis)} ms` : ''}</Fact>
        <Fact name="Program">{r.agent}</Fact>
        <Fact name="Came from">{r.referrer}</Fact>
        <Fact name="Gate">{[r.gateName, r.gate, r.sight && `saw the ${r.sight}`].filter(Boolean).join(', ')}</Fact>
        <Fact name="Revision">{r.revision ? `${r.revision}` : ''}</Fact>
        <Fact name="Reference">{r.reference}</Fact>
        <Fact name="Detail">{r.detail}</Fact>
      </dl>
      {r.amount === 'group' && (
        <p className="pt-3 text-soft text-sm">
          Its policy keeps the host, the groups and the minute, and nothing else.
        </p>
      )}
    </>
  )
}

/** Why it was decided so, made again from the revision of that time; and what the same request would get now, where that is something else. */
function Why({ id }: { id: string }) {
  const found = useQuery(whyOptions(id))
  if (found.isPending) return <Loading what="why" />
  if (found.error) return <ProblemNotice error={found.error} retry={() => found.refetch()} />
  const { then, other, lacks, now, draft } = found.data
  return (
    <div className="flex flex-col gap-2 pb-3 text-sm">
      {then && <p>{then.because}</p>}
      {lacks && <p className="text-soft">It cannot be decided again: {lacks}.</p>}
      {other && then?.verdict && (
        <p className="border-ochre border-l-3 bg-wash px-3 py-1.5">
          Made again, it comes to <VerdictMark verdict={then.verdict} />: something that counted then is not known any
          more.
        </p>
      )}
      {(
        [
          ['Now', now],
          ['The draft', draft],
        ] as const
      ).map(
        ([name, again]) =>
          again?.verdict && (
            <div key={name} className="border-rule border-l-3 pl-3">
              <p>
                {name}: <VerdictMark verdict={again.verdict} />
              </p>
              <p className="text-soft">
                {again.parting ?? (again.because === then?.because ? 'for the same reason' : again.because)}
              </p>
            </div>
          ),
      )}
    </div>
  )
}

function Fact({ name, children }: { name: string; children: ReactNode }) {
  if (!children) return null
  return (
    <>
      <dt className="text-soft">{name}</dt>
      <dd className="min-w-0 break-words">{children}</dd>
    </>
  )
}

/** A link to another search. */
function Find({ q, children }: { q: string; children: ReactNode }) {
  return (
    <Link
      to="/journal"
      search={(before) => ({ ...before, q, record: undefined })}
      className="underline decoration-rule underline-offset-2 hover:decoration-ink"
    >
      {children}
    </Link>
  )
}
