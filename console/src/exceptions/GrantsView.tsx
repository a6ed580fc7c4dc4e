import { useQuery } from '@tanstack/react-query'
import { useMay } from '../may/may'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { formatEnd, formatMoment } from '../ui/clock'
import { Menu, MenuItem } from '../ui/Menu'
import { Mono } from '../ui/Mono'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { type Grant, grantsOptions, useEndGrant, useKeepGrant } from './grantQueries'
import { whomSaid } from './standing'

/** The grants in force, and those of the last 90 days. */
export function GrantsView({ filter }: { filter: string }) {
  const all = useQuery(grantsOptions)
  const shown = (all.data ?? []).filter((g) =>
    `${g.entries} ${g.reason} ${whomSaid(g)} ${g.madeBy}`.toLowerCase().includes(filter.toLowerCase()),
  )
  if (all.isPending) return <Loading what="the grants" />
  if (all.error) return <ProblemNotice error={all.error} retry={() => all.refetch()} />
  if (shown.length === 0) {
    return (
      <EmptyNotice title={all.data.length === 0 ? 'No grants yet' : 'None match'}>
        {all.data.length === 0
          ? 'A trial of what is blocked offers one: it holds at once, without publishing, and ends by itself.'
          : 'Take the filter away.'}
      </EmptyNotice>
    )
  }
  return (
    <table className="w-full border-collapse" onKeyDown={onRowKeys}>
      <thead>
        <tr>
          <Head className="w-[30%]">Allows</Head>
          <Head>For</Head>
          <Head>Until</Head>
          <Head>Made</Head>
          <Head className="w-8">
            <span className="sr-only">Do</span>
          </Head>
        </tr>
      </thead>
      <tbody>
        {shown.map((g) => (
          <Row key={g.id} grant={g} />
        ))}
      </tbody>
    </table>
  )
}

function Row({ grant: g }: { grant: Grant }) {
  const runs = g.state === 'in force'
  return (
    <tr className={runs ? 'hover:bg-wash' : 'text-soft hover:bg-wash'}>
      <td className={cellClass}>
        {g.entries.map((entry) => (
          <p key={entry}>
            <Mono>{entry}</Mono>
          </p>
        ))}
        <p className="text-sm text-soft">
          {g.reason}
          {g.requestedBy && ` Asked for by ${g.requestedBy}.`}
        </p>
      </td>
      <td className={cellClass}>{whomSaid(g)}</td>
      <td className={`${cellClass} whitespace-nowrap text-sm`}>
        {g.endedAt ? `ended ${formatMoment(g.endedAt)} by ${g.endedBy}` : formatEnd(g.until)}
        <p className="text-soft">{g.kept ? `${g.state}; kept as an exception` : g.state}</p>
      </td>
      <td className={`${cellClass} whitespace-nowrap text-sm`}>
        {formatMoment(g.madeAt)}
        <p className="text-soft">by {g.madeBy}</p>
      </td>
      <td className={cellClass}>
        <GrantActions grant={g} />
      </td>
    </tr>
  )
}

/** What can be done with a grant that is in force; nothing is shown where that is nothing. */
export function GrantActions({ grant: g }: { grant: Grant }) {
  const may = useMay()
  const end = useEndGrant()
  const keep = useKeepGrant()
  const announce = useAnnounce()
  const what = g.entries.join(', ')
  const problem = end.error ?? keep.error
  if (g.state !== 'in force' || !(g.yours || may('keepGrant'))) return null
  return (
    <>
      <Menu
        trigger={
          <button
            type="button"
            aria-label={`What to do with the grant of ${what}`}
            className="rounded-sm px-2 hover:bg-wash"
          >
            ⋯
          </button>
        }
      >
        {g.yours && (
          <MenuItem
            does="endGrant"
            onSelect={() => afterwards(end.mutateAsync(g.id), () => announce(`Ended the grant of ${what}.`))}
          >
            End it now
          </MenuItem>
        )}
        {!g.kept && (
          <MenuItem
            does="keepGrant"
            onSelect={() =>
              afterwards(keep.mutateAsync(g.id), (made) =>
                announce(`The exception ${made.name} is in the draft. It holds once that is published.`),
              )
            }
          >
            Keep it as an exception
          </MenuItem>
        )}
      </Menu>
      {problem && <ProblemNotice error={problem} />}
    </>
  )
}
