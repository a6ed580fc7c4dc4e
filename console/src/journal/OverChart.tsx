import { Bar, BarChart, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts'
import { formatShort } from '../ui/clock'
import { formatNumber } from '../ui/format'
import { verdicts } from '../ui/VerdictMark'
import type { JournalSummary } from './journalQueries'

type Moment = JournalSummary['over'][number]

const inks = { allow: 'var(--reed)', watch: 'var(--tide)', hold: 'var(--ochre)', block: 'var(--clay)' }

/** Requests over time by verdict. A click on a span searches it alone. */
export function OverChart({ over, onSpan }: { over: Moment[]; onSpan: (from: string, to?: string) => void }) {
  const at = (i: number) => over[i]?.at
  return (
    <figure aria-label="Requests over time" className="h-28 shrink-0">
      <ResponsiveContainer width="100%" height="100%">
        <BarChart
          data={over}
          barCategoryGap={1}
          margin={{ top: 4, right: 0, bottom: 0, left: 0 }}
          onClick={(state) => {
            const i = Number(state.activeTooltipIndex)
            const from = at(i)
            if (from) onSpan(from, at(i + 1))
          }}
          className="cursor-pointer"
        >
          <XAxis
            dataKey="at"
            tickFormatter={formatShort}
            minTickGap={90}
            tick={{ fill: 'var(--soft)', fontSize: 12 }}
            stroke="var(--rule)"
          />
          <YAxis
            width={48}
            tickFormatter={formatNumber}
            tick={{ fill: 'var(--soft)', fontSize: 12 }}
            stroke="var(--rule)"
            tickCount={4}
            allowDecimals={false}
          />
          <Tooltip
            isAnimationActive={false}
            cursor={{ fill: 'var(--wash)' }}
            content={({ active, payload }) => {
              const of = payload?.[0]?.payload as Moment | undefined
              if (!active || !of) return null
              return (
                <div className="rounded-sm border border-edge bg-leaf px-3 py-1.5 text-sm">
                  <p className="font-semibold">{formatShort(of.at)}</p>
                  {verdicts.map((v) => (
                    <p key={v} className="flex justify-between gap-6 tabular-nums">
                      <span>{v}</span>
                      <span>{formatNumber(of[v])}</span>
                    </p>
                  ))}
                </div>
              )
            }}
          />
          {verdicts.map((v) => (
            <Bar key={v} dataKey={v} stackId="all" fill={inks[v]} isAnimationActive={false} />
          ))}
        </BarChart>
      </ResponsiveContainer>
    </figure>
  )
}
