import { useQuery } from '@tanstack/react-query'
import { useNavigate } from '@tanstack/react-router'
import { Button } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { formatNumber } from '../ui/format'
import { Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { type Pack, type PackState, packHistoryOptions } from './packQueries'

export function HistoryView({ pack }: { pack: Pack }) {
  const history = useQuery(packHistoryOptions(pack.id))
  const navigate = useNavigate({ from: '/packs/$id' })
  if (history.isPending) return <Loading what="the history" />
  if (history.error) return <ProblemNotice error={history.error} retry={() => history.refetch()} />
  const states = new Map<number, PackState>(history.data.states.map((s) => [s.number, s]))
  return (
    <div className="min-h-0 grow overflow-y-auto pb-6">
      <table className="w-full border-collapse" onKeyDown={onRowKeys}>
        <thead>
          <tr>
            <Head>When</Head>
            <Head>Who</Head>
            <Head>What</Head>
            <Head right>Version</Head>
            <Head right>Sites</Head>
            <Head right>Came</Head>
            <Head right>Moved</Head>
            <Head right>Went</Head>
            <Head>
              <span className="sr-only">Actions</span>
            </Head>
          </tr>
        </thead>
        <tbody>
          {history.data.events.map((e) => {
            const s = states.get(e.number)
            return (
              <tr key={`${e.at} ${e.what}`} className="hover:bg-wash">
                <td className={`${cellClass} whitespace-nowrap`}>{formatMoment(e.at)}</td>
                <td className={cellClass}>{e.by}</td>
                <td className={cellClass}>{e.what === 'undone' ? 'undone: in force again' : e.what}</td>
                <td className={`${cellClass} text-right`}>{e.version}</td>
                <td className={`${cellClass} text-right`}>{s && formatNumber(s.sites)}</td>
                <td className={`${cellClass} text-right`}>{s && formatNumber(s.added)}</td>
                <td className={`${cellClass} text-right`}>{s && formatNumber(s.moved)}</td>
                <td className={`${cellClass} text-right`}>{s && formatNumber(s.gone)}</td>
                <td className={`${cellClass} text-right`}>
                  {e.number > 1 && (
                    <Button
                      look="quiet"
                      onClick={() =>
                        navigate({
                          search: (before) => ({ ...before, view: 'update', from: e.number - 1, to: e.number }),
                        })
                      }
                    >
                      What changed
                    </Button>
                  )}
                </td>
              </tr>
            )
          })}
        </tbody>
      </table>
    </div>
  )
}
