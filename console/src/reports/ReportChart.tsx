import { useNavigate } from '@tanstack/react-router'
import { Bar, ComposedChart, Line, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts'
import { formatShort } from '../ui/clock'
import { formatNumber } from '../ui/format'
import { verdicts } from '../ui/VerdictMark'
import type { Section } from './reportQueries'

type Moment = NonNullable<Section['over']>[number]

const inks = { allow: 'var(--reed)', watch: 'var(--tide)', hold: 'var(--ochre)', block: 'var(--clay)' }

/** Requests over time by verdict, with the period before as a line. A click on a span opens its records. */
export function ReportChart({ over, compare }: { over: Moment[]; compare: boolean }) {
  const navigate = useNavigate()
  const tick = { fill: 'var(--soft)', fontSize: 12 }
  return (
    <figure aria-label="Requests over time" className="h-56 shrink-0">
      <ResponsiveContainer width="100%" height="100%">
        <ComposedChart
          data={over}
          barCategoryGap={1}
          margin={{ top: 6, right: 0, bottom: 0, left: 0 }}
          className="cursor-pointer"
          onClick={(state) => {
            const q = over[Number(state.activeTooltipIndex)]?.query
            if (q) void navigate({ to: '/journal', search: { q } })
          }}
        >
          <XAxis dataKey="at" tickFormatter={formatShort} minTickGap={90} tick={tick} stroke="var(--rule)" />
          <YAxis
            width={52}
            tickFormatter={formatNumber}
            tick={tick}
            stroke="var(--rule)"
            tickCount={5}
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
                      <span>{formatNumber(of.now[v])}</span>
                    </p>
                  ))}
                  {compare && (
                    <p className="flex justify-between gap-6 text-soft tabular-nums">
                      <span>all, before</span>
                      <span>{formatNumber(of.earlier.all)}</span>
                    </p>
                  )}
                </div>
              )
            }}
          />
          {verdicts.map((v) => (
            <Bar key={v} dataKey={`now.${v}`} stackId="all" fill={inks[v]} isAnimationActive={false} />
          ))}
          {compare && (
            <Line dataKey="earlier.all" stroke="var(--soft)" strokeWidth={1.5} dot={false} isAnimationActive={false} />
          )}
        </ComposedChart>
      </ResponsiveContainer>
    </figure>
  )
}
