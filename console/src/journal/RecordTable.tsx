import { clsx } from 'clsx'
import type { ReactNode } from 'react'
import { formatClock } from '../ui/clock'
import { formatNumber } from '../ui/format'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { VerdictMark } from '../ui/VerdictMark'
import { type Column, columnNames } from './columns'
import type { JournalRecord } from './journalQueries'

type Props = { records: JournalRecord[]; columns: Column[]; open?: string; onOpen: (id: string) => void }

/** Records, the last one first. The first column opens one. */
export function RecordTable({ records, columns, open, onOpen }: Props) {
  return (
    <table className="w-full table-fixed border-collapse text-sm" onKeyDown={onRowKeys}>
      <thead>
        <tr>
          {columns.map((c) => (
            <Head key={c} className={columnNames[c][1]} right={numbers.has(c)}>
              {columnNames[c][0]}
            </Head>
          ))}
        </tr>
      </thead>
      <tbody>
        {records.map((r, i) => (
          <tr key={r.id ?? i} className={clsx('hover:bg-wash', open === r.id && 'bg-wash')}>
            {columns.map((c, at) => {
              const { shown, said } = cellOf(r, c)
              return (
                <td
                  key={c}
                  className={clsx(
                    cellClass,
                    c !== 'verdict' && 'truncate',
                    numbers.has(c) && 'text-right tabular-nums',
                  )}
                  title={said}
                >
                  {at === 0 ? (
                    <button
                      type="button"
                      disabled={!r.id}
                      aria-label={`Record of ${formatClock(r.at)}, ${r.url}`}
                      onClick={() => r.id && onOpen(r.id)}
                      className="max-w-full truncate text-left underline decoration-rule underline-offset-2 hover:decoration-ink"
                    >
                      {shown || '—'}
                    </button>
                  ) : (
                    shown
                  )}
                </td>
              )
            })}
          </tr>
        ))}
      </tbody>
    </table>
  )
}

const numbers = new Set<Column>(['size', 'duration', 'status', 'revision'])

type Cell = { shown: ReactNode; said?: string }

const cell = (shown: ReactNode, said?: string): Cell => ({ shown, said })

/** What a column shows of a record, and the whole of it where that may be cut off. */
function cellOf(r: JournalRecord, c: Column): Cell {
  const plain = (text?: string | number) => cell(text, text === undefined ? undefined : String(text))
  switch (c) {
    case 'time':
      return cell(<span className="whitespace-nowrap tabular-nums">{formatClock(r.at)}</span>)
    case 'verdict':
      return cell(<VerdictMark verdict={r.verdict} />)
    case 'who':
      return cell(r.who ?? r.address ?? r.groups?.join(', '), r.groups?.join(', '))
    case 'request':
      return cell(
        <>
          {r.method && r.method !== 'GET' && <span className="text-soft">{r.method} </span>}
          <span className="mono">{r.url}</span>
        </>,
        r.url,
      )
    case 'by':
      return plain(r.by)
    case 'outcome':
      return plain([r.outcome, r.status].filter(Boolean).join(' '))
    case 'person':
      return plain(r.who)
    case 'groups':
      return plain(r.groups?.join(', '))
    case 'host':
      return cell(<span className="mono">{hostOf(r.url)}</span>, r.url)
    case 'categories':
      return plain(r.categories?.join(', '))
    case 'gate':
      return plain(r.gateName ?? r.gate)
    case 'traits':
      return plain(r.traits?.join(', '))
    case 'type':
      return plain(r.media)
    case 'size':
      return cell(r.size ? formatNumber(r.size) : '')
    case 'duration':
      return cell(r.millis ? `${formatNumber(r.millis)} ms` : '')
    case 'status':
      return cell(r.status || '')
    case 'revision':
      return cell(r.revision || '')
    case 'entry':
      return cell(<span className="mono">{r.entry}</span>, r.entry)
    default:
      return plain(r[c])
  }
}

const hostOf = (url: string) => url.replace(/^[a-z]+:\/\//, '').replace(/\/.*$/, '')
