import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { count } from '../ui/format'
import { Loading, ProblemNotice } from '../ui/Notice'
import { Strip } from '../ui/Strip'
import { VerdictMark } from '../ui/VerdictMark'
import { planRows } from './planRows'
import { planOptions } from './policyQueries'

/** What a group may reach when: first the verdict for everything else, then the lists and categories with other verdicts. Those with the same verdicts share a row. */
export function DayPlan({ group }: { group: string }) {
  const plan = useQuery(planOptions(group))
  const [all, setAll] = useState(false)
  if (plan.isPending) return <Loading what="the plan" />
  if (plan.error) return <ProblemNotice error={plan.error} retry={() => plan.refetch()} />
  const rows = planRows(plan.data.else, plan.data.rows)
  const shown = all ? rows : rows.slice(0, 8)
  return (
    <div className="flex flex-col">
      {shown.map((r, i) => (
        <div key={r.name} className="grid grid-cols-[16rem_minmax(0,1fr)] items-end gap-4 border-rule border-t py-1.5">
          <span className="text-sm">{r.name}</span>
          {r.strip.length === 1 && r.strip[0] ? (
            <span className="flex items-center gap-2 text-sm">
              <VerdictMark verdict={r.strip[0].verdict} /> <span className="text-soft">always</span>
            </span>
          ) : (
            <Strip segments={r.strip} label={r.name} days={i === 0} />
          )}
        </div>
      ))}
      {rows.length > shown.length && (
        <button type="button" onClick={() => setAll(true)} className="pt-2 text-left text-reed text-sm underline">
          {count(rows.length - shown.length, 'more row', 'more rows')}
        </button>
      )}
      <p className="flex gap-4 pt-3 text-soft text-xs">
        Seven days from today, by the clock of this browser. <VerdictMark verdict="allow" />{' '}
        <VerdictMark verdict="watch" /> <VerdictMark verdict="hold" /> <VerdictMark verdict="block" />
      </p>
    </div>
  )
}
