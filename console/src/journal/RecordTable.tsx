import { clsx } from 'clsx'
import { formatClock } from '../ui/clock'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { VerdictMark } from '../ui/VerdictMark'
import type { JournalRecord } from './journalQueries'

type Props = { records: JournalRecord[]; open?: string; onOpen: (id: string) => void }

/** Records, the last one first. */
export function RecordTable({ records, open, onOpen }: Props) {
  return (
    <table className="w-full table-fixed border-collapse text-sm" onKeyDown={onRowKeys}>
      <thead>
        <tr>
          <Head className="w-32">When</Head>
          <Head className="w-20">Verdict</Head>
          <Head className="w-32">Who</Head>
          <Head>Request</Head>
          <Head className="w-48">By</Head>
        </tr>
      </thead>
      <tbody>
        {records.map((r, i) => (
          <tr key={r.id ?? i} className={clsx('hover:bg-wash', open === r.id && 'bg-wash')}>
            <td className={`${cellClass} whitespace-nowrap tabular-nums`}>
              <button
                type="button"
                disabled={!r.id}
                aria-label={`Record of ${formatClock(r.at)}, ${r.url}`}
                onClick={() => r.id && onOpen(r.id)}
                className="text-left underline decoration-rule underline-offset-2 hover:decoration-ink"
              >
                {formatClock(r.at)}
              </button>
            </td>
            <td className={cellClass}>
              <VerdictMark verdict={r.verdict} />
            </td>
            <td className={`${cellClass} truncate`} title={r.groups?.join(', ')}>
              {r.who ?? r.address ?? r.groups?.join(', ')}
            </td>
            <td className={`${cellClass} truncate`} title={r.url}>
              {r.method && r.method !== 'GET' && <span className="text-soft">{r.method} </span>}
              <span className="mono">{r.url}</span>
            </td>
            <td className={`${cellClass} truncate`} title={r.by}>
              {r.by}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
