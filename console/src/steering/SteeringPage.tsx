import { useQuery } from '@tanstack/react-query'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { Concerns } from '../may/may'
import { formatHour } from '../ui/clock'
import { count } from '../ui/format'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { Big } from './Big'
import { RunningStint } from './RunningStint'
import { StintForm } from './StintForm'
import { steeringOptions } from './steeringQueries'
import { saysWhat } from './stintForm'

/** The page of leads, made for a tablet: a group is put on chosen lists for a while, and watched. */
export function SteeringPage() {
  const steering = useQuery(steeringOptions)
  const { group: chosen } = useSearch({ from: '/steering' })
  const navigate = useNavigate({ from: '/steering' })
  if (steering.isPending) return <Loading what="your groups" />
  if (steering.error) return <ProblemNotice error={steering.error} retry={() => steering.refetch()} />
  const { groups } = steering.data
  const group = groups.find((g) => g.id === chosen) ?? groups[0]
  return (
    <Concerns people>
      <div className="h-full overflow-y-auto px-5 pb-8">
        <div className="pt-4 pb-3">
          <h1 className="font-semibold text-xl">Groups you lead</h1>
          <p className="text-soft">Put a group on chosen lists for a while. It holds at once, and ends by itself.</p>
        </div>
        {!group && (
          <EmptyNotice title="There is no group that you lead">
            An owner can give your account the role of a lead, and a publisher has to publish the group.
          </EmptyNotice>
        )}
        {groups.length > 1 && (
          <div className="flex flex-wrap gap-2 pb-5">
            {groups.map((g) => (
              <Big
                key={g.id}
                chosen={g.id === group?.id}
                onChoose={() => navigate({ search: (before) => ({ ...before, group: g.id }) })}
                title={g.name}
                note={
                  g.stint
                    ? `${saysWhat(g.stint)}, until ${formatHour(g.stint.until)}`
                    : count(g.people, 'person', 'people')
                }
              />
            ))}
          </div>
        )}
        {group && (
          <>
            {groups.length === 1 && (
              <h2 className="pb-3 font-semibold text-lg">
                {group.name} <span className="font-normal text-soft">{count(group.people, 'person', 'people')}</span>
              </h2>
            )}
            {group.stint ? (
              <RunningStint key={group.stint.id} group={group} stint={group.stint} />
            ) : (
              <StintForm key={group.id} group={group} steering={steering.data} />
            )}
          </>
        )}
      </div>
    </Concerns>
  )
}
