import { useQuery } from '@tanstack/react-query'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { clsx } from 'clsx'
import { useState } from 'react'
import { CategoryPicker } from '../categories/CategoryPicker'
import { listsOptions } from '../lists/listQueries'
import { Button } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { TextArea } from '../ui/Field'
import { count, formatNumber } from '../ui/format'
import { Mono } from '../ui/Mono'
import { Loading, ProblemNotice } from '../ui/Notice'
import { RefPicker } from '../ui/RefPicker'
import { cellClass, Head } from '../ui/Table'
import { BlockDialog } from './BlockDialog'
import { affectedOptions, isEmpty } from './changeQueries'

const spans = [1, 7, 30, 90]

/** The recorded requests that blocking something would have affected, by group and hour, before any rule is written. */
export function AffectedView() {
  const { categories = [], lists = [], entries = [], days = 7 } = useSearch({ from: '/changes' })
  const navigate = useNavigate({ from: '/changes' })
  const [text, setText] = useState(entries.join('\n'))
  const [making, setMaking] = useState(false)
  const all = useQuery(listsOptions)
  const choice = { categories, lists, entries, days }
  const affected = useQuery(affectedOptions(choice))
  const a = affected.data
  const go = (to: Partial<typeof choice>) => navigate({ search: (before) => ({ ...before, ...to }) })
  const offered = (all.data ?? []).map((l) => ({ id: l.id, name: l.name }))
  return (
    <div className="flex flex-col gap-4 pt-4">
      <p className="max-w-2xl text-soft">
        Pick categories, lists or entries, and see who asked for such sites: how many people of each group, and at which
        hours. Nothing is changed by looking.
      </p>
      <div className="grid max-w-5xl grid-cols-3 gap-6">
        <CategoryPicker label="Categories" families chosen={categories} onChange={(keys) => go({ categories: keys })} />
        <RefPicker
          label="Lists"
          chosen={lists.map((id) => offered.find((o) => o.id === id) ?? { id })}
          offered={offered}
          onChange={(refs) => go({ lists: refs.map((r) => r.id) })}
        />
        <TextArea
          label="Entries, one a line"
          rows={2}
          className="mono"
          spellCheck={false}
          value={text}
          onChange={(e) => setText(e.target.value)}
          onBlur={() =>
            go({
              entries: text
                .split('\n')
                .map((t) => t.trim())
                .filter(Boolean),
            })
          }
        />
      </div>
      <fieldset aria-label="How far back" className="flex gap-3 text-sm">
        {spans.map((n) => (
          <button
            key={n}
            type="button"
            aria-pressed={days === n}
            onClick={() => go({ days: n })}
            className={clsx('underline-offset-4', days === n ? 'font-semibold underline' : 'text-soft hover:text-ink')}
          >
            {count(n, 'day', 'days')}
          </button>
        ))}
        {!isEmpty(choice) && (
          <Button className="ml-auto" does="putPolicy" onClick={() => setMaking(true)}>
            Make it a rule…
          </Button>
        )}
      </fieldset>
      {making && <BlockDialog choice={choice} onClose={() => setMaking(false)} />}
      {affected.isLoading && <Loading what="the recorded requests" />}
      {affected.error && <ProblemNotice error={affected.error} retry={() => affected.refetch()} />}
      {a && !isEmpty(choice) && (
        <>
          <p>
            <span className="font-semibold">
              {count(a.requests, 'request', 'requests')} of {count(a.people, 'known person', 'known people')} to{' '}
              {count(a.hosts, 'host', 'hosts')}
            </span>
            {a.since && ` since ${formatMoment(a.since)}`}, of {formatNumber(a.looked)} recorded.{' '}
            {formatNumber(a.reached)} of them pass as the draft is.
          </p>
          {a.groups.length > 0 && (
            <table className="border-collapse text-sm">
              <thead>
                <tr>
                  <Head>Group</Head>
                  <Head right>Requests</Head>
                  <Head right>People</Head>
                  <Head>By the hour of the day</Head>
                </tr>
              </thead>
              <tbody>
                {a.groups.map((g) => (
                  <tr key={g.name}>
                    <td className={`${cellClass} whitespace-nowrap`}>{g.name || 'in no group'}</td>
                    <td className={`${cellClass} text-right tabular-nums`}>{formatNumber(g.requests)}</td>
                    <td className={`${cellClass} text-right tabular-nums`}>{formatNumber(g.people)}</td>
                    <td className={cellClass}>
                      <Hours hours={g.hours} name={g.name} />
                    </td>
                  </tr>
                ))}
                <tr>
                  <td colSpan={3} />
                  <td className="px-3 text-soft text-xs tabular-nums">
                    <span className="flex w-96 justify-between">
                      <span>0</span>
                      <span>6</span>
                      <span>12</span>
                      <span>18</span>
                      <span>24</span>
                    </span>
                  </td>
                </tr>
              </tbody>
            </table>
          )}
          {a.top.length > 0 && (
            <section>
              <h2 className="font-semibold">Most asked for</h2>
              <ul className="flex flex-wrap gap-x-6 text-sm">
                {a.top.map((h) => (
                  <li key={h.host}>
                    <Mono>{h.host}</Mono> <span className="text-soft tabular-nums">{formatNumber(h.requests)}</span>
                  </li>
                ))}
              </ul>
            </section>
          )}
        </>
      )}
    </div>
  )
}

/** A column for each hour of the day; the text beside them is for screen readers. */
function Hours({ hours, name }: { hours: number[]; name: string }) {
  const most = Math.max(1, ...hours)
  const busiest = hours.indexOf(most)
  return (
    <span className="flex h-7 w-96 items-end gap-px">
      <span className="sr-only">
        {name}: most from {busiest} to {busiest + 1} o'clock
      </span>
      {hours.map((n, hour) => (
        <span
          // biome-ignore lint/suspicious/noArrayIndexKey: the place is the hour
          key={hour}
          title={`${hour}:00 to ${hour + 1}:00: ${n}`}
          className={n > 0 ? 'grow bg-reed' : 'grow bg-rule'}
          style={{ height: n > 0 ? `${Math.max(6, (100 * n) / most)}%` : '1px' }}
        />
      ))}
    </span>
  )
}
