import { clsx } from 'clsx'
import type { Schemas } from '../api/client'
import { formatTime, formatWeekday } from './clock'
import { fits, midnights, place } from './stripLayout'

export type Segment = Schemas['Segment']

/** The background of a segment: a colour and, for people who cannot tell colours apart, a pattern. */
const grounds = {
  allow: 'bg-reed-wash border-reed',
  watch: 'bg-tide-wash border-tide strip-watch',
  hold: 'bg-ochre-wash border-ochre strip-hold',
  block: 'bg-clay-wash border-clay strip-block',
}

/** "Mon 12:30 to 13:15: watch". */
const told = (s: Segment) => `${formatTime(s.from)} to ${formatTime(s.to)}: ${s.verdict}, by ${s.by}`

type Props = { segments: Segment[]; label: string; days?: boolean; thin?: boolean }

/** A strip of verdicts over time, from left to right, exact to the minute. */
export function Strip({ segments, label, days, thin }: Props) {
  const first = segments[0]
  const last = segments.at(-1)
  if (!first || !last) return null
  const marks = midnights(first, last)
  const left = (at: number) => `${place(at, first, last)}%`
  return (
    <div role="img" aria-label={`${label}. ${segments.slice(0, 12).map(told).join('; ')}`}>
      {days && (
        <div className="relative h-4 text-soft text-xs" aria-hidden="true">
          {marks
            .filter((at) => fits(at, first, last))
            .map((at) => (
              <span key={at} className="absolute" style={{ left: left(at) }}>
                {formatWeekday(at)}
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
              width: `${place(Date.parse(s.to), first, last) - place(Date.parse(s.from), first, last)}%`,
            }}
          />
        ))}
        {marks.slice(1).map((at) => (
          <div key={at} className="absolute inset-y-0 border-rule border-l" style={{ left: left(at) }} />
        ))}
      </div>
    </div>
  )
}
