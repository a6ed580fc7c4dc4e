import { Link } from '@tanstack/react-router'
import { formatMoment } from '../ui/clock'
import { count, formatNumber } from '../ui/format'
import type { Used } from './useUsage'

type Props = {
  /** Undefined while it is not known. */
  used?: Used
  /** What was used, for those who hear the page. */
  name: string
  /** The query that finds these requests in the journal; without one, the number is no link. */
  query?: string
  /** Where no head of a column says what the number is. */
  said?: boolean
  /** Without bars, where there is little room. */
  bare?: boolean
}

/** How many requests of 30 days met something: the number, a bar for each day, and when the last one did. */
export function Hits({ used, name, query, said, bare }: Props) {
  if (!used) return <span className="text-soft text-sm">…</span>
  if (!used.last) return <span className="text-soft text-sm">{bare ? 'none' : 'no hits yet'}</span>
  const last = formatMoment(used.last)
  if (used.requests === 0) return <span className="text-soft text-sm">{bare ? 0 : `last hit ${last}`}</span>
  const shown = said ? count(used.requests, 'hit', 'hits') : formatNumber(used.requests)
  const number = <span className="tabular-nums">{shown}</span>
  return (
    <span className="inline-flex items-center gap-1.5 whitespace-nowrap text-sm" title={`In 30 days; last hit ${last}`}>
      {!bare && <Bars days={used.days} />}
      {query ? (
        <Link
          to="/journal"
          search={{ q: `${query} since:30d` }}
          aria-label={`${shown} of ${name} in 30 days, the last one ${last}`}
          className="underline decoration-rule underline-offset-2 hover:decoration-ink"
        >
          {number}
        </Link>
      ) : (
        number
      )}
    </span>
  )
}

const high = 14

function Bars({ days }: { days: number[] }) {
  const most = Math.max(...days, 1)
  return (
    <svg aria-hidden width={days.length * 2} height={high} className="shrink-0 text-edge">
      <title>Requests by day</title>
      {days.map((n, i) => {
        const tall = n === 0 ? 0 : Math.max(1, Math.round((n / most) * high))
        // biome-ignore lint/suspicious/noArrayIndexKey: the days have no other name
        return <rect key={i} x={i * 2} y={high - tall} width={1.5} height={tall} fill="currentColor" />
      })}
    </svg>
  )
}
