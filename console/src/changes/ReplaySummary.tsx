import { useQuery } from '@tanstack/react-query'
import { clsx } from 'clsx'
import { useState } from 'react'
import { May } from '../may/may'
import { formatMoment } from '../ui/clock'
import { count } from '../ui/format'
import { Mono } from '../ui/Mono'
import { Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head } from '../ui/Table'
import { VerdictMark } from '../ui/VerdictMark'
import { replayOptions } from './changeQueries'

const n = (count: number) => count.toLocaleString('en-GB')

/** The verdicts that recorded requests of the last days would have got, for whoever may see what is used. A row opens the requests one by one. */
export function ReplaySummary() {
  return (
    <May does="replay">
      <Summary />
    </May>
  )
}

function Summary() {
  const [by, setBy] = useState<string>()
  const [days, setDays] = useState(7)
  const all = useQuery(replayOptions(days))
  const some = useQuery({ ...replayOptions(days, by), enabled: by !== undefined })
  if (all.isPending) return <Loading what="the recorded requests" />
  if (all.error) return <ProblemNotice error={all.error} retry={() => all.refetch()} />
  const r = all.data
  const span = (
    <fieldset aria-label="How far back" className="flex gap-3 text-sm">
      {[1, 7, 30, 90].map((d) => (
        <button
          key={d}
          type="button"
          aria-pressed={days === d}
          onClick={() => setDays(d)}
          className={clsx('underline-offset-4', days === d ? 'font-semibold underline' : 'text-soft hover:text-ink')}
        >
          {count(d, 'day', 'days')}
        </button>
      ))}
    </fieldset>
  )
  if (r.requests === 0) {
    return (
      <div className="flex flex-col gap-2">
        {span}
        <p className="text-sm text-soft">No requests were recorded that could be replayed.</p>
      </div>
    )
  }
  return (
    <div className="mt-3 flex flex-col gap-2">
      {span}
      <p>
        Of {n(r.requests)} requests recorded from {formatMoment(r.since ?? '')} on,{' '}
        <span className="font-semibold">
          {n(r.turned)} of {n(r.turnedPeople)} people to {n(r.turnedHosts)} hosts
        </span>{' '}
        would have gone otherwise: {n(r.opened)} open, {n(r.closed)} close.
      </p>
      {r.groups.length > 0 && (
        <table className="w-full border-collapse text-sm">
          <thead>
            <tr>
              <Head className="w-40">From, to</Head>
              <Head>Decides then</Head>
              <Head right>Requests</Head>
              <Head right>People</Head>
              <Head>Most asked for</Head>
            </tr>
          </thead>
          <tbody>
            {r.groups.slice(0, 12).map((g) => (
              <tr key={`${g.before} ${g.after} ${g.by} ${g.wasBy}`} className="hover:bg-wash">
                <td className={`${cellClass} whitespace-nowrap`}>
                  <span className="flex items-center gap-2">
                    <VerdictMark verdict={g.before} />
                    <span className="text-soft">→</span>
                    <VerdictMark verdict={g.after} />
                  </span>
                </td>
                <td className={cellClass}>
                  <button
                    type="button"
                    aria-expanded={by === g.by}
                    onClick={() => setBy(by === g.by ? undefined : g.by)}
                    className="text-left underline decoration-rule underline-offset-2 hover:decoration-ink"
                  >
                    {g.by}
                  </button>
                </td>
                <td className={`${cellClass} text-right tabular-nums`}>{n(g.requests)}</td>
                <td className={`${cellClass} text-right tabular-nums`}>{n(g.people)}</td>
                <td className={cellClass}>
                  {g.top.slice(0, 2).map((h) => (
                    <p key={h.host}>
                      <Mono>{h.host}</Mono> <span className="text-soft">{n(h.requests)}</span>
                    </p>
                  ))}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {by && some.data && (
        <section aria-label={`Requests that ${by} decides`} className="max-h-72 overflow-y-auto border-rule border-y">
          <table className="w-full border-collapse text-sm">
            <thead>
              <tr>
                <Head>When</Head>
                <Head>Who</Head>
                <Head>URL</Head>
                <Head>From, to</Head>
              </tr>
            </thead>
            <tbody>
              {some.data.records.map((one) => (
                <tr key={`${one.at} ${one.person} ${one.url}`}>
                  <td className={`${cellClass} whitespace-nowrap`}>{formatMoment(one.at)}</td>
                  <td className={`${cellClass} whitespace-nowrap`}>{one.person || one.address}</td>
                  <td className={cellClass}>
                    <Mono>{one.url}</Mono>
                  </td>
                  <td className={`${cellClass} whitespace-nowrap`}>
                    <VerdictMark verdict={one.before} bare /> → <VerdictMark verdict={one.after} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      )}
    </div>
  )
}
