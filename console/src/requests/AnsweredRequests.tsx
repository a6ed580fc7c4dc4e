import { GrantActions } from '../exceptions/GrantsView'
import { grantsOptions } from '../exceptions/grantQueries'
import { useAsked } from '../may/may'
import { formatEnd, formatMoment } from '../ui/clock'
import { Mono } from '../ui/Mono'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import type { AccessRequest } from './requestQueries'
import { whoAsks } from './requestText'

/** Requests that are answered, each with its grant: until when it holds, and what to do with it. */
export function AnsweredRequests({ requests }: { requests: AccessRequest[] }) {
  const grants = useAsked('getGrants', grantsOptions)
  return (
    <section aria-labelledby="answered" className="pt-6">
      <h2 id="answered" className="pb-1 font-semibold text-lg">
        Answered
      </h2>
      <table className="w-full border-collapse" onKeyDown={onRowKeys}>
        <thead>
          <tr>
            <Head className="w-[34%]">Page</Head>
            <Head>Needed for</Head>
            <Head>Who</Head>
            <Head>Answer</Head>
            <Head className="w-8">
              <span className="sr-only">Do</span>
            </Head>
          </tr>
        </thead>
        <tbody>
          {requests.map((r) => {
            const grant = grants.data?.find((g) => g.id === r.grant)
            return (
              <tr key={r.id} className="hover:bg-wash">
                <td className={`${cellClass} break-all`}>
                  <Mono>{r.url}</Mono>
                  <p className="text-sm text-soft">
                    {formatMoment(r.madeAt)}, reference {r.reference}
                  </p>
                </td>
                <td className={cellClass}>{r.reason}</td>
                <td className={cellClass}>{whoAsks(r)}</td>
                <td className={cellClass}>
                  {r.state} by {r.answeredBy}
                  <p className="text-sm text-soft">{r.answer}</p>
                  {grant && (
                    <p className="text-sm text-soft">
                      {grant.endedAt
                        ? `the grant was ended by ${grant.endedBy}`
                        : `the grant holds ${formatEnd(grant.until)}`}
                    </p>
                  )}
                </td>
                <td className={cellClass}>{grant && <GrantActions grant={grant} />}</td>
              </tr>
            )
          })}
        </tbody>
      </table>
    </section>
  )
}
