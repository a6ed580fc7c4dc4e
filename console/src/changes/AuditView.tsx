import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { formatMoment } from '../ui/clock'
import { fieldClass } from '../ui/Field'
import { Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head } from '../ui/Table'
import { useSettled } from '../ui/useSettled'
import { auditOptions } from './changeQueries'

/** The audit log: every change and every sign-in. */
export function AuditView() {
  const [text, setText] = useState('')
  const events = useQuery(auditOptions(useSettled(text)))
  return (
    <div className="flex flex-col gap-2 pt-3">
      <input
        type="search"
        aria-label="Filter"
        placeholder="Who, what, or the name of an object"
        value={text}
        onChange={(e) => setText(e.target.value)}
        className={`${fieldClass} h-8 w-80`}
      />
      {events.isPending && <Loading what="who did what" />}
      {events.error && <ProblemNotice error={events.error} retry={() => events.refetch()} />}
      {events.data?.length === 0 && <p className="py-6 text-soft">Nothing matches.</p>}
      {events.data && events.data.length > 0 && (
        <table className="w-full border-collapse">
          <thead>
            <tr>
              <Head className="w-40">When</Head>
              <Head className="w-32">Who</Head>
              <Head>What</Head>
              <Head>Of what</Head>
              <Head>More</Head>
            </tr>
          </thead>
          <tbody>
            {events.data.map((e) => (
              <tr key={e.id} className="hover:bg-wash">
                <td className={`${cellClass} whitespace-nowrap`}>{formatMoment(e.at)}</td>
                <td className={cellClass}>{e.by}</td>
                <td className={`${cellClass} whitespace-nowrap`}>{e.what}</td>
                <td className={cellClass}>
                  <span className="text-soft">{e.kind}</span> {e.name}
                </td>
                <td className={`${cellClass} text-sm text-soft`}>{e.detail}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  )
}
