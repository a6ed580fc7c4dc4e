import { useState } from 'react'
import { useAsked, useMay } from '../may/may'
import { Button } from '../ui/Button'
import { count, formatNumber } from '../ui/format'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { CorrectDialog } from './CorrectDialog'
import { unratedOptions } from './categoryQueries'
import { LookupLink } from './LookupLink'

/** Requested hosts without any category, the most requested first. */
export function UnratedView() {
  const [limit, setLimit] = useState(200)
  const [chosen, setChosen] = useState<string[]>([])
  const [correcting, setCorrecting] = useState(false)
  const may = useMay()
  const found = useAsked('getUnrated', unratedOptions(limit))
  if (found.isPending) return <Loading what="what is unrated" />
  if (found.error) return <ProblemNotice error={found.error} retry={() => found.refetch()} />
  const { hosts, unrated, total } = found.data
  if (hosts.length === 0) {
    return (
      <EmptyNotice title="Everything that was asked for has a category">
        Sites that no pack, list or word knows come to stand here, as soon as somebody asks for them.
      </EmptyNotice>
    )
  }
  const most = hosts[0]?.requests ?? 1
  return (
    <div className="flex min-h-0 grow flex-col">
      <div className="flex min-h-11 items-center gap-3 pb-2">
        <p className="grow text-soft">
          {count(unrated.hosts, 'host', 'hosts')} of {formatNumber(total.hosts)}, with {formatNumber(unrated.requests)}{' '}
          of {formatNumber(total.requests)} requests (
          {Math.round((100 * unrated.requests) / Math.max(1, total.requests))} %), are unrated.
        </p>
        {chosen.length > 0 && (
          <>
            <span>{count(chosen.length, 'host', 'hosts')} chosen</span>
            <Button look="main" does="correct" onClick={() => setCorrecting(true)}>
              Say what they are
            </Button>
            <Button look="quiet" onClick={() => setChosen([])}>
              Choose none
            </Button>
          </>
        )}
      </div>
      <div className="min-h-0 grow overflow-y-auto pb-4">
        <table className="w-full border-collapse" onKeyDown={onRowKeys}>
          <thead>
            <tr>
              <Head className="w-8">
                <input
                  type="checkbox"
                  hidden={!may('correct')}
                  aria-label="Choose all that are shown"
                  className="accent-reed"
                  checked={chosen.length === hosts.length}
                  onChange={(e) => setChosen(e.target.checked ? hosts.map((h) => h.host) : [])}
                />
              </Head>
              <Head>Host</Head>
              <Head right>Requests</Head>
              <Head className="w-1/3">
                <span className="sr-only">Share</span>
              </Head>
              <Head right>Pages</Head>
            </tr>
          </thead>
          <tbody>
            {hosts.map((h) => (
              <tr key={h.host} className={chosen.includes(h.host) ? 'bg-reed-wash' : 'hover:bg-wash'}>
                <td className={cellClass}>
                  <input
                    type="checkbox"
                    hidden={!may('correct')}
                    aria-label={`Choose ${h.host}`}
                    className="accent-reed"
                    checked={chosen.includes(h.host)}
                    onChange={(e) =>
                      setChosen(e.target.checked ? [...chosen, h.host] : chosen.filter((one) => one !== h.host))
                    }
                  />
                </td>
                <td className={cellClass}>
                  <LookupLink url={h.host} />
                </td>
                <td className={`${cellClass} text-right`}>{formatNumber(h.requests)}</td>
                <td className={cellClass}>
                  <div
                    aria-hidden
                    className="mt-2 h-1.5 bg-edge"
                    style={{ width: `${Math.max(0.5, (100 * h.requests) / most)}%` }}
                  />
                </td>
                <td className={`${cellClass} text-right`}>{formatNumber(h.pages)}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {unrated.hosts > hosts.length && (
          <Button className="mt-3" onClick={() => setLimit(Math.min(10_000, limit * 5))}>
            More
          </Button>
        )}
      </div>
      {correcting && (
        <CorrectDialog entries={chosen} onClose={() => setCorrecting(false)} onDone={() => setChosen([])} />
      )}
    </div>
  )
}
