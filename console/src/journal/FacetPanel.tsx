import { clsx } from 'clsx'
import { formatNumber } from '../ui/format'
import { facetNames, type JournalSummary } from './journalQueries'

/** What the records have in common: the most frequent values of each field. A click keeps those alone; the minus leaves them out. */
export function FacetPanel({ summary, onTerm }: { summary: JournalSummary; onTerm: (term: string) => void }) {
  return (
    <div className="flex flex-col gap-4 text-sm">
      {summary.facets
        .filter((f) => f.values.some((v) => v.value !== ''))
        .map((f) => {
          const most = Math.max(1, ...f.values.map((v) => v.all))
          return (
            <section key={f.field} aria-label={facetNames[f.field as keyof typeof facetNames]}>
              <h2 className="pb-1 font-semibold">{facetNames[f.field as keyof typeof facetNames]}</h2>
              <ul>
                {f.values.map((v) => (
                  <li key={v.term} className="group relative flex items-center gap-2">
                    <span
                      aria-hidden
                      className="absolute inset-y-0.5 left-0 bg-wash"
                      style={{ width: `${(100 * v.all) / most}%` }}
                    />
                    <button
                      type="button"
                      onClick={() => onTerm(v.term)}
                      title={`${v.term}: block ${formatNumber(v.block)}, hold ${formatNumber(v.hold)}, watch ${formatNumber(v.watch)}, allow ${formatNumber(v.allow)}`}
                      className="relative flex min-w-0 grow items-center justify-between gap-2 py-0.5 pl-1 text-left hover:underline"
                    >
                      <span className={clsx('truncate', v.value === '' && 'text-soft')}>{v.value || 'none'}</span>
                      <span className="tabular-nums">{formatNumber(v.all)}</span>
                    </button>
                    <button
                      type="button"
                      aria-label={`Without ${v.value || 'none'}`}
                      title="Leave these out"
                      onClick={() => onTerm(`-${v.term}`)}
                      className="relative w-5 rounded-sm text-soft hover:bg-wash hover:text-ink"
                    >
                      −
                    </button>
                  </li>
                ))}
              </ul>
              {f.others > 0 && <p className="pl-1 text-soft">and {formatNumber(f.others)} more</p>}
            </section>
          )
        })}
    </div>
  )
}
