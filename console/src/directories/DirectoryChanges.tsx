import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from '../ui/Button'
import { formatNumber } from '../ui/format'
import { Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head } from '../ui/Table'
import { type Directory, type DirectoryChange, directoryChangesOptions } from './directoryQueries'

type Props = { changes: DirectoryChange[]; total: number } | { directory: Directory; from?: number; to?: number }

/** Who comes, changes and goes: given, or between two states; left out, the one in force and the one that waits. */
export function DirectoryChanges(props: Props) {
  if ('changes' in props) return <Rows {...props} />
  return <Asked {...props} />
}

const page = 50

function Asked({ directory, from = 0, to = 0 }: { directory: Directory; from?: number; to?: number }) {
  const [limit, setLimit] = useState(page)
  const found = useQuery({
    ...directoryChangesOptions(directory, from, to, limit),
    placeholderData: (before) => before,
  })
  if (found.isPending) return <Loading what="what changes" />
  if (found.error) return <ProblemNotice error={found.error} retry={() => found.refetch()} />
  return (
    <>
      <Rows changes={found.data.changes} total={found.data.total} />
      {found.data.total > found.data.changes.length && limit < 1000 && (
        <Button look="quiet" onClick={() => setLimit(Math.min(limit * 4, 1000))}>
          Show more
        </Button>
      )}
    </>
  )
}

const whats = { came: 'comes', changed: 'changes', went: 'goes' } as const

function Rows({ changes, total }: { changes: DirectoryChange[]; total: number }) {
  return (
    <>
      <div className="mt-2 bg-paper px-3">
        <table className="w-full border-collapse text-sm">
          <thead>
            <tr>
              <Head>What</Head>
              <Head>Who</Head>
              <Head>What is otherwise</Head>
            </tr>
          </thead>
          <tbody>
            {changes.map((c) => (
              <tr key={c.id}>
                <td className={cellClass}>{whats[c.what]}</td>
                <td className={cellClass}>
                  {c.kind === 'group' && <span className="text-soft">group </span>}
                  {c.fullName || c.name} {c.fullName && <span className="text-soft">{c.name}</span>}
                </td>
                <td className={cellClass}>{c.detail}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {total > changes.length && (
        <p className="pt-2 text-sm text-soft">
          The first {formatNumber(changes.length)} of {formatNumber(total)}.
        </p>
      )}
    </>
  )
}
