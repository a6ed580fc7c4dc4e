import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { count, formatNumber } from '../ui/format'
import { Mono } from '../ui/Mono'
import { useSettled } from '../ui/useSettled'
import { explain } from './editor/explanations'

type Days = 1 | 7 | 30 | 90

const spans: Days[] = [1, 7, 30, 90]

/** What a line covers, and its near misses, shown while it is typed. */
export function CatchPanel({ line }: { line: string }) {
  const settled = useSettled(line.trim())
  const asked = settled !== '' && !settled.startsWith('#')
  const [days, setDays] = useState<Days>(7)
  const answer = useQuery({
    queryKey: ['explained', settled, days],
    queryFn: async () => (await explain([settled], 'exact', true, days))[0],
    enabled: asked,
    placeholderData: (before) => before,
  })
  const e = asked ? answer.data : undefined
  return (
    <section
      aria-label="What this line catches"
      className="flex w-80 shrink-0 flex-col gap-3 overflow-y-auto pl-5 text-sm"
    >
      <h2 className="font-semibold text-soft">This line</h2>
      {!e && <p className="text-soft">Put the caret on an entry to see what it covers, and what else it catches.</p>}
      {e?.problem && <p className="text-clay">{e.problem.message}</p>}
      {e?.explain && <p>{e.explain}</p>}
      {e?.needsFull && (
        <p className="text-soft">It depends on more than the host, so it works only where the whole URL is seen.</p>
      )}
      {e?.costly && (
        <p className="text-ochre">
          Costly: it names nothing that a URL would have to hold, so it is tried on every one.
        </p>
      )}
      {e?.nearMisses && (
        <div>
          <h3 className="font-semibold text-ochre">It also covers</h3>
          <ul>
            {e.nearMisses.map((miss) => (
              <li key={miss.url} className="border-rule border-t py-1.5">
                <Mono>{miss.url}</Mono>
                <p className="text-soft">{miss.why}</p>
                {miss.tighter && (
                  <p>
                    Tighter: <Mono>{miss.tighter}</Mono>
                  </p>
                )}
              </li>
            ))}
          </ul>
        </div>
      )}
      {e?.caught && (
        <div>
          <h3 className="font-semibold text-soft">
            Of the recorded traffic of{' '}
            <select
              aria-label="How far back"
              value={days}
              onChange={(e) => setDays(Number(e.target.value) as Days)}
              className="border-rule border-b bg-transparent"
            >
              {spans.map((d) => (
                <option key={d} value={d}>
                  {count(d, 'day', 'days')}
                </option>
              ))}
            </select>
          </h3>
          {e.caught.hosts === 0 ? (
            <p>
              {e.caught.looked === 0
                ? 'Nothing has been recorded yet.'
                : 'It would have caught nothing that was asked for.'}
            </p>
          ) : (
            <>
              <p>
                {count(e.caught.hosts, 'host', 'hosts')}, {count(e.caught.requests, 'request', 'requests')}
              </p>
              <ul>
                {e.caught.top.map((host) => (
                  <li key={host.host} className="flex gap-3 border-rule border-t py-1">
                    <span className="min-w-0 grow">
                      <Mono>{host.host}</Mono>
                    </span>
                    <span className="text-soft">{formatNumber(host.requests)}</span>
                  </li>
                ))}
              </ul>
              {e.caught.hosts > e.caught.top.length && (
                <p className="text-soft">and {formatNumber(e.caught.hosts - e.caught.top.length)} more</p>
              )}
            </>
          )}
        </div>
      )}
    </section>
  )
}
