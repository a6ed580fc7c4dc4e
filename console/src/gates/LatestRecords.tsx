import { useQuery } from '@tanstack/react-query'
import { formatMoment } from '../ui/clock'
import { Mono } from '../ui/Mono'
import { Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head } from '../ui/Table'
import { VerdictMark } from '../ui/VerdictMark'
import { type GateRecord, latestOptions } from './gateQueries'

/** The requests that were recorded last, by whichever gate. */
export function LatestRecords() {
  const found = useQuery(latestOptions)
  return (
    <section aria-label="Latest decisions">
      <h2 className="pb-1 font-semibold">Latest decisions</h2>
      {found.isPending && <Loading what="the latest records" />}
      {found.error && <ProblemNotice error={found.error} retry={() => found.refetch()} />}
      {found.data?.length === 0 && <p className="text-soft">Nothing has been recorded yet.</p>}
      {found.data && found.data.length > 0 && (
        <table className="w-full border-collapse">
          <thead>
            <tr>
              <Head className="w-36">When</Head>
              <Head>Verdict</Head>
              <Head>Who</Head>
              <Head>Request</Head>
              <Head>By</Head>
              <Head>Outcome</Head>
            </tr>
          </thead>
          <tbody>
            {found.data.map((r, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: records have no id of their own yet
              <tr key={i} className="hover:bg-wash">
                <td className={`${cellClass} whitespace-nowrap`}>{formatMoment(r.at)}</td>
                <td className={cellClass}>
                  <VerdictMark verdict={r.verdict} />
                </td>
                <td className={cellClass}>{r.who ?? r.address}</td>
                <td className={`${cellClass} break-all`}>
                  <span className="text-soft text-sm">{r.method}</span> <Mono>{r.url}</Mono>
                </td>
                <td className={cellClass}>{r.by}</td>
                <td
                  className={cellClass}
                  title={[r.detail, r.notHeld && `not held: ${r.notHeld}`].filter(Boolean).join('; ')}
                >
                  {became(r)}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  )
}

/** What became of a request, in a few words. */
const became = (r: GateRecord) =>
  [r.outcome, r.status, r.reference && `reference ${r.reference}`].filter(Boolean).join(' ')
