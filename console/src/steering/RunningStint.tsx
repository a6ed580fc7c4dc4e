import { useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { meOptions } from '../session/sessionQueries'
import { Button } from '../ui/Button'
import { formatHour } from '../ui/clock'
import { formatNumber } from '../ui/format'
import { Loading, ProblemNotice } from '../ui/Notice'
import { Big } from './Big'
import {
  type LedGroup,
  membersOptions,
  type Stint,
  sinceOptions,
  useEnd,
  useSetDone,
  useTakeOver,
} from './steeringQueries'
import { leftSaid, saysWhat } from './stintForm'

/** The present moment, anew every few seconds. */
function useNow() {
  const [now, setNow] = useState(Date.now)
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), 5_000)
    return () => clearInterval(timer)
  }, [])
  return now
}

/** The live page of a group on a stint: what is left of it, who is done, what was refused. */
export function RunningStint({ group, stint }: { group: LedGroup; stint: Stint }) {
  const now = useNow()
  const me = useQuery(meOptions)
  const end = useEnd()
  const take = useTakeOver()
  const problem = end.error ?? take.error
  return (
    <div className="flex flex-col gap-6">
      <section aria-label="The stint" className="border-reed border-l-4 bg-reed-wash px-5 py-4">
        <div className="flex flex-wrap items-center gap-4">
          <div className="min-w-64 grow">
            <p className="font-semibold text-xl first-letter:uppercase">{saysWhat(stint)}</p>
            <p>
              until {formatHour(stint.until)}, {leftSaid(stint.until, now)}
              {stint.reason && <>; {stint.reason}</>}
            </p>
            <p className="text-soft text-sm">
              Begun at {formatHour(stint.from)}, {stint.by === me.data?.name ? 'by you' : `by ${stint.by}`}
              {stint.people?.length ? `, for ${stint.people.map((p) => p.name).join(', ')}` : ', for the whole group'}
            </p>
          </div>
          {stint.by !== me.data?.name && (
            <Button
              does="takeOverStint"
              className="min-h-12!"
              onClick={() => take.mutate(stint.id)}
              disabled={take.isPending}
            >
              Take it over
            </Button>
          )}
          <Button
            does="endStint"
            look="main"
            className="min-h-12!"
            onClick={() => end.mutate(stint.id)}
            disabled={end.isPending}
          >
            End it now
          </Button>
        </div>
        {problem && <ProblemNotice error={problem} />}
      </section>
      <Live group={group} stint={stint} now={now} />
    </div>
  )
}

function Live({ group, stint, now }: { group: LedGroup; stint: Stint; now: number }) {
  const members = useQuery(membersOptions(group.id))
  const minutes = Math.ceil((now - new Date(stint.from).getTime()) / 60_000)
  const since = useQuery(sinceOptions(group.name, minutes))
  const done = useSetDone(stint.id)
  if (members.isPending) return <Loading what="the people of the group" />
  if (members.error) return <ProblemNotice error={members.error} />
  const facet = (field: string) => since.data?.facets.find((f) => f.field === field)?.values ?? []
  const counts = new Map(facet('person').map((v) => [v.value, v]))
  const only = stint.people?.map((p) => p.id)
  const asks = (p: { name: string; fullName?: string }) => counts.get(p.fullName || p.name)
  const shown = members.data
    .filter((p) => !only?.length || only.includes(p.id))
    .sort((a, b) => (asks(b)?.block ?? 0) - (asks(a)?.block ?? 0) || (asks(b)?.all ?? 0) - (asks(a)?.all ?? 0))
  const isDone = (id: string) => stint.done.some((p) => p.id === id)
  const refused = facet('host')
    .filter((v) => v.block > 0 && v.value !== '')
    .slice(0, 12)
  return (
    <div className="grid gap-6 lg:grid-cols-[minmax(0,1fr)_22rem]">
      <section aria-labelledby="people">
        <h2 id="people" className="font-semibold text-lg">
          People
        </h2>
        <p className="pb-2 text-soft text-sm">Whoever is done has the web open again, as it usually is.</p>
        {done.error && <ProblemNotice error={done.error} />}
        <ul className="grid grid-cols-[repeat(auto-fill,minmax(15rem,1fr))] gap-2">
          {shown.map((p) => {
            const asked = asks(p)
            return (
              <li key={p.id} className="grid">
                <Big
                  chosen={isDone(p.id)}
                  disabled={done.isPending}
                  onChoose={() => done.mutate({ person: p.id, done: !isDone(p.id) })}
                  title={p.fullName || p.name}
                  note={
                    isDone(p.id)
                      ? 'done: the web is open'
                      : asked
                        ? `${formatNumber(asked.all)} asked, ${formatNumber(asked.block)} refused`
                        : 'nothing asked'
                  }
                />
              </li>
            )
          })}
        </ul>
      </section>
      <section aria-labelledby="refused">
        <h2 id="refused" className="font-semibold text-lg">
          Refused since it began
        </h2>
        {since.error && <ProblemNotice error={since.error} />}
        {refused.length === 0 && <p className="text-soft">Nothing.</p>}
        <ul>
          {refused.map((v) => (
            <li key={v.value} className="flex items-baseline gap-2 border-rule border-b py-1.5">
              <span className="min-w-0 grow break-words font-mono text-sm">{v.value}</span>
              <span className="tabular-nums">{formatNumber(v.block)}</span>
            </li>
          ))}
        </ul>
      </section>
    </div>
  )
}
