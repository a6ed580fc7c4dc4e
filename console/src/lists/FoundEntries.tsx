import { useQuery } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import { trialOf } from '../address/trialSearch'
import { Mono } from '../ui/Mono'
import { ProblemNotice } from '../ui/Notice'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { useSettled } from '../ui/useSettled'
import { kinds } from './kinds'
import { findOptions } from './listQueries'

/** The entries of all lists that match the filter of the lists page; a link opens the list at the entry. */
export function FoundEntries({ text }: { text: string }) {
  const settled = useSettled(text.trim())
  const found = useQuery({ ...findOptions(settled), enabled: settled.length > 1 })
  if (settled.length < 2) return null
  if (found.error) return <ProblemNotice error={found.error} retry={() => found.refetch()} />
  const entries = found.data?.entries ?? []
  return (
    <section aria-label="Entries found" className="pt-6 pb-8">
      <h2 className="font-semibold text-lg">Entries that mention "{settled}"</h2>
      {found.data && entries.length === 0 && <p className="py-2 text-soft">No entry of any list does.</p>}
      {entries.length > 0 && (
        <table className="w-full border-collapse" onKeyDown={onRowKeys}>
          <thead>
            <tr>
              <Head>Entry</Head>
              <Head>Kind</Head>
              <Head>List</Head>
            </tr>
          </thead>
          <tbody>
            {entries.map((entry) => (
              <tr key={entry.id} className="hover:bg-wash">
                <td className={cellClass} title={entry.explain}>
                  <Mono>{entry.text}</Mono>
                </td>
                <td className={`${cellClass} whitespace-nowrap text-soft`}>{kinds[entry.kind]}</td>
                <td className={cellClass}>
                  <Link
                    to="/lists/$id"
                    params={{ id: entry.list.id }}
                    search={(before) => ({ ...trialOf(before), q: settled })}
                    className="text-left underline decoration-rule underline-offset-2 hover:decoration-ink"
                  >
                    {entry.list.name}
                  </Link>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {found.data?.next && <p className="py-2 text-soft">The first {entries.length}; a longer text finds fewer.</p>}
    </section>
  )
}
