import { useQuery } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import { clsx } from 'clsx'
import { useState } from 'react'
import { formatNumber } from '../ui/format'
import { ProblemNotice } from '../ui/Notice'
import { verdicts } from '../ui/VerdictMark'
import { changeOf } from './change'
import { type Asked, type SectionKey, sectionOptions } from './reportQueries'

const inks = { allow: 'bg-reed', watch: 'bg-tide', hold: 'bg-ochre', block: 'bg-clay' }

/** The values of a section: a bar and a number each, which lead to their records. */
export function SectionTable({ asked, section, title }: { asked: Asked; section: SectionKey; title: string }) {
  const [more, setMore] = useState(false)
  const found = useQuery(sectionOptions(asked, section, more ? 50 : 8))
  const made = found.data?.sections[0]
  const most = Math.max(1, ...(made?.rows ?? []).map((r) => r.now.all))
  return (
    <section
      aria-label={title}
      className={clsx('min-w-0 print:break-inside-avoid', found.isPlaceholderData && 'opacity-60')}
    >
      <h2 className="font-semibold">{title}</h2>
      {found.isPending && <p className="py-2 text-soft text-sm">Counting…</p>}
      {found.error && <ProblemNotice error={found.error} retry={() => found.refetch()} />}
      {made && made.rows.length === 0 && <p className="py-2 text-soft text-sm">There are none.</p>}
      {made && made.rows.length > 0 && (
        <table className="w-full table-fixed border-collapse text-sm">
          <colgroup>
            <col />
            <col className="w-[17%]" />
            <col className="w-16" />
            <col className="w-14" />
            {asked.compare && <col className="w-16" />}
          </colgroup>
          <thead>
            <tr className="text-left text-soft text-xs">
              <th className="font-normal">
                <span className="sr-only">Value</span>
              </th>
              <th className="font-normal">
                <span className="sr-only">Share</span>
              </th>
              <th className="text-right font-normal">requests</th>
              <th className="text-right font-normal">stopped</th>
              {asked.compare && <th className="text-right font-normal">change</th>}
            </tr>
          </thead>
          <tbody>
            {made.rows.map((r) => (
              <tr key={r.value} className="border-rule border-t hover:bg-wash">
                <td className="truncate py-1 pr-2" title={r.value}>
                  <Link
                    to="/journal"
                    search={{ q: r.query }}
                    className="underline decoration-rule underline-offset-2 hover:decoration-ink"
                  >
                    {r.value || '(none)'}
                  </Link>
                </td>
                <td aria-hidden>
                  <div className="flex h-2.5" style={{ width: `${(100 * r.now.all) / most}%` }}>
                    {verdicts.map((v) => (
                      <div
                        key={v}
                        className={inks[v]}
                        style={{ width: `${(100 * r.now[v]) / Math.max(1, r.now.all)}%` }}
                      />
                    ))}
                  </div>
                </td>
                <td className="text-right tabular-nums">{formatNumber(r.now.all)}</td>
                <td className="text-right tabular-nums">{formatNumber(r.now.hold + r.now.block)}</td>
                {asked.compare && (
                  <td className="text-right text-soft tabular-nums">{changeOf(r.now.all, r.earlier.all)}</td>
                )}
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {made && made.others > 0 && (
        <p className="pt-1 text-soft text-sm">
          {formatNumber(made.others)} others.{' '}
          {!more && (
            <button type="button" onClick={() => setMore(true)} className="underline underline-offset-2 print:hidden">
              Show more
            </button>
          )}
        </p>
      )}
    </section>
  )
}
