import { useQuery } from '@tanstack/react-query'
import { clsx } from 'clsx'
import { useState } from 'react'
import { groupsOptions } from '../people/peopleQueries'
import { DayPlan } from './DayPlan'
import type { Policy } from './policyQueries'

/** What each group of a policy may reach when. */
export function Plans({ policy }: { policy: Policy }) {
  const [group, setGroup] = useState(policy.groups[0]?.id)
  const groups = useQuery(groupsOptions)
  const chosen = policy.groups.find((g) => g.id === group) ?? policy.groups[0]
  if (!chosen) return null
  return (
    <section aria-label="Day plan" className="pt-6">
      <div className="flex items-baseline gap-4 pb-2">
        <h2 className="font-semibold text-lg">Day plan</h2>
        {policy.groups.map((g) => (
          <button
            key={g.id}
            type="button"
            aria-pressed={g.id === chosen.id}
            onClick={() => setGroup(g.id)}
            className={clsx(
              'border-b-2 text-sm',
              g.id === chosen.id ? 'border-reed font-semibold' : 'border-transparent text-soft',
            )}
          >
            {g.name}
            {(groups.data?.find((other) => other.id === g.id)?.policies.length ?? 0) > 1 && ' (several policies)'}
          </button>
        ))}
      </div>
      <DayPlan group={chosen.id} />
    </section>
  )
}
