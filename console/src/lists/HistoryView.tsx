import { useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { count, formatNumber } from '../ui/format'
import { Mono } from '../ui/Mono'
import { Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { compareOptions, historyOptions, type List, useTakeBack } from './listQueries'

/** Who changed what, and when. Any two states can be compared, and a past one restored. */
export function HistoryView({ list }: { list: List }) {
  const pages = useInfiniteQuery(historyOptions(list.id))
  const { from, to = list.version } = useSearch({ from: '/lists/$id' })
  const navigate = useNavigate({ from: '/lists/$id' })
  const back = useTakeBack(list)
  const announce = useAnnounce()
  if (pages.isPending) return <Loading what="the history" />
  if (pages.error) return <ProblemNotice error={pages.error} retry={() => pages.refetch()} />
  const changes = pages.data.pages.flatMap((page) => page.changes)
  const compare = (change: { from?: number; to?: number }) =>
    navigate({ search: (before) => ({ ...before, ...change }), replace: true })
  return (
    <div className="flex min-h-0 grow gap-6 pb-3">
      <section
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a box that scrolls has to be reachable by the keyboard
        tabIndex={0}
        aria-label={`Changes of ${list.name}`}
        className="min-h-0 grow overflow-y-auto"
      >
        {back.error && <ProblemNotice error={back.error} />}
        <table className="w-full border-collapse" onKeyDown={onRowKeys}>
          <thead>
            <tr>
              <Head>When</Head>
              <Head>Who</Head>
              <Head>What</Head>
              <Head right>New</Head>
              <Head right>Edited</Head>
              <Head right>Gone</Head>
              <Head>
                <span className="sr-only">Actions</span>
              </Head>
            </tr>
          </thead>
          <tbody>
            {changes.map((c, i) => (
              <tr key={c.version} className="hover:bg-wash">
                <td className={`${cellClass} whitespace-nowrap`}>{formatMoment(c.at)}</td>
                <td className={cellClass}>{c.by}</td>
                <td className={cellClass}>
                  {c.what} <span className="text-sm text-soft">{c.detail}</span>
                </td>
                <td className={`${cellClass} text-right`}>{formatNumber(c.added)}</td>
                <td className={`${cellClass} text-right`}>{formatNumber(c.edited)}</td>
                <td className={`${cellClass} text-right`}>{formatNumber(c.removed)}</td>
                <td className={`${cellClass} whitespace-nowrap text-right`}>
                  {i === 0 ? ( // the list itself may come in later than its history
                    <span className="text-soft">now</span>
                  ) : (
                    <>
                      <Button look={from === c.version ? 'main' : 'quiet'} onClick={() => compare({ from: c.version })}>
                        Compare
                      </Button>
                      <Button
                        look="quiet"
                        does="takeBack"
                        disabled={back.isPending}
                        onClick={() =>
                          back.mutate(c.version, {
                            onSuccess: (l) =>
                              announce(`${l.name} is as it was then, with ${count(l.entryCount, 'entry', 'entries')}.`),
                          })
                        }
                      >
                        Take back
                      </Button>
                    </>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {pages.hasNextPage && (
          <Button className="my-3" onClick={() => pages.fetchNextPage()}>
            Earlier changes
          </Button>
        )}
      </section>
      {from && (
        <Comparison list={list} from={from} to={to} onClose={() => compare({ from: undefined, to: undefined })} />
      )}
    </div>
  )
}

type ComparisonProps = { list: List; from: number; to: number; onClose: () => void }

function Comparison({ list, from, to, onClose }: ComparisonProps) {
  const found = useQuery(compareOptions(list.id, from, to))
  return (
    <section aria-label="What differs" className="flex w-84 shrink-0 flex-col gap-2 overflow-y-auto">
      <div className="flex items-center gap-2">
        <h2 className="grow font-semibold">From then until now</h2>
        <Button look="quiet" onClick={onClose}>
          Close
        </Button>
      </div>
      {found.isPending && <Loading what="what differs" />}
      {found.error && <ProblemNotice error={found.error} />}
      {found.data?.total === 0 && <p className="text-soft">The two are the same.</p>}
      <ul>
        {found.data?.differences.map((d) => (
          <li key={`${d.before} ${d.after}`} className="border-rule border-t py-1 text-sm">
            {d.before && (
              <p className="text-clay">
                <span className="sr-only">gone: </span>
                <span aria-hidden>− </span>
                <Mono>{d.before}</Mono>
              </p>
            )}
            {d.after && (
              <p className="text-reed">
                <span className="sr-only">new: </span>
                <span aria-hidden>+ </span>
                <Mono>{d.after}</Mono>
              </p>
            )}
          </li>
        ))}
      </ul>
      {found.data && found.data.total > found.data.differences.length && (
        <p className="text-sm text-soft">and {formatNumber(found.data.total - found.data.differences.length)} more</p>
      )}
    </section>
  )
}
