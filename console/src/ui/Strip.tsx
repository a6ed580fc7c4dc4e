import { clsx } from 'clsx'
import type { Schemas } from '../api/client'

export type Segment = Schemas['Segment']

/** The ground of a segment: colour and, so that it is told without it, a pattern. */
const grounds = {
  allow: 'bg-reed-wash border-reed',
  watch: 'bg-tide-wash border-tide strip-watch',
  hold: 'bg-ochre-wash border-ochre strip-hold',
  block: 'bg-clay-wash border-clay strip-block',
}

const short = new Intl.DateTimeFormat('en-GB', { weekday: 'short', hour: '2-digit', minute: '2-digit' })
const day = new Intl.DateTimeFormat('en-GB', { weekday: 'short' })

/** "Mon 12:30 to 13:15: watch". */
const told = (s: Segment) =>
  `${short.format(new Date(s.from))} to ${short.format(new Date(s.to))}: ${s.verdict}, by ${s.by}`

type Props = { segments: Segment[]; label: string; days?: boolean; thin?: boolean }

/** Verdicts over time, from left to right, exact to the minute. */
export function Strip({ segments, label, days, thin }: Props) {
  const first = segments[0]
  const last = segments.at(-1)
  if (!first || !last) return null
  const from = Date.parse(first.from)
  const length = Date.parse(last.to) - from
  const midnights: number[] = []
  const start = new Date(from)
  for (
    let at = new Date(start.getFullYear(), start.getMonth(), start.getDate());
    at.getTime() < from + length;
    at = new Date(at.getFullYear(), at.getMonth(), at.getDate() + 1)
  ) {
    midnights.push(at.getTime())
  }
  const left = (at: number) => `${Math.max(0, ((at - from) / length) * 100)}%`
  return (
    <div role="img" aria-label={`${label}. ${segments.slice(0, 12).map(told).join('; ')}`}>
      {days && (
        <div className="relative h-4 text-soft text-xs" aria-hidden="true">
          {midnights.map((at, i) => (
            <span
              key={at}
              className={clsx(
                'absolute',
                i === 0 && at < from && from - at > 16 * 3600e3 && 'hidden',
                (at - from) / length > 0.95 && 'hidden',
              )}
              style={{ left: left(at) }}
            >
              {day.format(at)}
            </span>
          ))}
        </div>
      )}
      <div className={clsx('relative w-full', thin ? 'h-3.5' : 'h-5')} aria-hidden="true">
        {segments.map((s) => (
          <div
            key={s.from}
            title={told(s)}
            className={clsx('absolute inset-y-0 border-b-2', grounds[s.verdict])}
            style={{
              left: left(Date.parse(s.from)),
              width: `${((Date.parse(s.to) - Date.parse(s.from)) / length) * 100}%`,
            }}
          />
        ))}
        {midnights.slice(1).map((at) => (
          <div key={at} className="absolute inset-y-0 border-rule border-l" style={{ left: left(at) }} />
        ))}
      </div>
    </div>
  )
}
