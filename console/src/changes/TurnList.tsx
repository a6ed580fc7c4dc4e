import { useQuery } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import { useState } from 'react'
import { Mono } from '../ui/Mono'
import { Loading, ProblemNotice } from '../ui/Notice'
import { VerdictMark } from '../ui/VerdictMark'
import { type Turn, turnsOptions } from './changeQueries'

/** The URLs whose verdict turns between two states, for whom and when. Each can be tried. */
export function TurnList({ from, to }: { from: string; to: string }) {
  const turns = useQuery(turnsOptions(from, to))
  if (turns.isPending) return <Loading what="what turns" />
  if (turns.error) return <ProblemNotice error={turns.error} retry={() => turns.refetch()} />
  const { looked, people } = turns.data
  return (
    <>
      <ul className="flex flex-col">
        {turns.data.turns.map((t) => (
          <TurnRow key={`${t.before} ${t.after} ${t.who} ${t.times}`} turn={t} />
        ))}
      </ul>
      <p className="text-sm text-soft">
        {turns.data.turns.length === 0 && 'No verdict turns. '}
        {looked === 0
          ? 'Nothing that differs reaches a URL.'
          : `${looked} ${looked === 1 ? 'URL' : 'URLs'} made from the entries and boundaries that differ, each tried for ${people} ${people === 1 ? 'group or person' : 'groups and people'} over a week.`}
      </p>
    </>
  )
}

function TurnRow({ turn: t }: { turn: Turn }) {
  const [all, setAll] = useState(false)
  const few = 3
  const shown = all ? t.urls : t.urls.slice(0, few)
  return (
    <li className="flex items-start gap-4 border-rule border-t py-2">
      <span className="flex w-40 shrink-0 items-center gap-2">
        <VerdictMark verdict={t.before} />
        <span className="text-soft">→</span>
        <VerdictMark verdict={t.after} />
      </span>
      <div className="min-w-0 grow">
        <p>
          {t.count === 1 ? 'One URL' : `${t.count} URLs`} for <span className="font-semibold">{t.who.join(', ')}</span>
          {t.times ? `, ${t.times}` : ', always'}
        </p>
        <p className="text-sm text-soft">{t.isBecause}</p>
        <ul className="flex flex-wrap gap-x-4 text-sm">
          {shown.map((u) => (
            <li key={u}>
              <Link
                to="."
                search={(before) => ({
                  ...before,
                  url: u,
                  as: t.who[0] === 'somebody unknown' ? undefined : t.who[0],
                  at: t.at,
                })}
                className="text-left underline decoration-rule underline-offset-2 hover:decoration-ink"
              >
                <Mono>{u}</Mono>
              </Link>
            </li>
          ))}
          {t.count > shown.length && !all && (
            <li>
              <button type="button" onClick={() => setAll(true)} className="text-reed underline">
                {t.count - few} more
              </button>
            </li>
          )}
        </ul>
      </div>
    </li>
  )
}
