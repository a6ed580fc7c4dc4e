import { useQuery } from '@tanstack/react-query'
import { Link, useNavigate, useSearch } from '@tanstack/react-router'
import { Plus } from 'lucide-react'
import { useMemo, useState } from 'react'
import { trialOf } from '../address/trialSearch'
import { DraftMark } from '../draft/DraftMark'
import { Button } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { fieldClass } from '../ui/Field'
import { formatNumber } from '../ui/format'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { Hits } from '../usage/Hits'
import { quoted } from '../usage/quoted'
import { useUsage } from '../usage/useUsage'
import { ColourMark } from './Colour'
import { FoundEntries } from './FoundEntries'
import { ListFormDialog } from './ListFormDialog'
import { type List, listsOptions, useCreateList } from './listQueries'

type Column = 'name' | 'entryCount' | 'updatedAt'
type ListSort = Column | `-${Column}`

/** All lists, with a filter, sorting by column, and arrow keys between rows. */
export function ListsPage() {
  const lists = useQuery(listsOptions)
  const { q = '', sort = 'name' } = useSearch({ from: '/lists' })
  const navigate = useNavigate({ from: '/lists' })
  const [making, setMaking] = useState(false)
  const setSearch = (change: { q?: string; sort?: ListSort }) =>
    navigate({ search: (before) => ({ ...before, ...change }), replace: true })
  return (
    <div className="flex h-full flex-col overflow-y-auto px-5">
      <div className="flex items-end gap-3 pt-4 pb-3">
        <div className="grow">
          <h1 className="font-semibold text-xl">Lists</h1>
          <p className="text-soft">
            Named sets of sites, pages and patterns. Rules of a policy say what becomes of them.
          </p>
        </div>
        <input
          type="search"
          aria-label="Filter lists and find entries"
          placeholder="Filter, or find an entry"
          value={q}
          onChange={(e) => setSearch({ q: e.target.value || undefined })}
          className={`${fieldClass} h-8 w-56`}
        />
        <Button look="main" does="createList" onClick={() => setMaking(true)}>
          <Plus size={16} aria-hidden /> New list
        </Button>
      </div>
      {lists.isPending && <Loading what="the lists" />}
      {lists.error && <ProblemNotice error={lists.error} retry={() => lists.refetch()} />}
      {lists.data?.length === 0 && (
        <EmptyNotice
          title="No lists yet"
          action={
            <Button look="main" does="createList" onClick={() => setMaking(true)}>
              Make the first list
            </Button>
          }
        >
          A list holds what you want to speak of in one go: betting sites, the portals of your suppliers, the pages that
          must always open. Make one, then paste or import its entries.
        </EmptyNotice>
      )}
      {lists.data && lists.data.length > 0 && (
        <>
          <ListTable lists={lists.data} q={q} sort={sort} onSort={(sort) => setSearch({ sort })} />
          <FoundEntries text={q} />
        </>
      )}
      {making && <NewListDialog onClose={() => setMaking(false)} />}
    </div>
  )
}

type TableProps = { lists: List[]; q: string; sort: ListSort; onSort: (sort: ListSort) => void }

function ListTable({ lists, q, sort, onSort }: TableProps) {
  const wanted = q.toLowerCase()
  const used = useUsage(
    'list',
    useMemo(() => lists.map((l) => l.id), [lists]),
  )
  const descending = sort.startsWith('-')
  const column = (descending ? sort.slice(1) : sort) as Column
  const rows = lists
    .filter((l) => `${l.name} ${l.description} ${l.usedBy.join(' ')}`.toLowerCase().includes(wanted))
    .sort((a, b) => {
      const order =
        column === 'entryCount' ? a.entryCount - b.entryCount : String(a[column]).localeCompare(String(b[column]), 'en')
      return descending ? -order : order
    })
  const head = (name: Column) => ({
    sorted: column === name ? (descending ? ('descending' as const) : ('ascending' as const)) : undefined,
    onSort: () => onSort(sort === name ? `-${name}` : name),
  })
  if (rows.length === 0) return <p className="pt-6 text-soft">No list is called like "{q}".</p>
  return (
    <table className="w-full border-collapse" onKeyDown={onRowKeys}>
      <thead>
        <tr>
          <Head {...head('name')}>Name</Head>
          <Head right {...head('entryCount')}>
            Entries
          </Head>
          <Head>Used by</Head>
          <Head>Owner</Head>
          <Head {...head('updatedAt')}>Changed</Head>
          <Head right>Hits in 30 days</Head>
        </tr>
      </thead>
      <tbody>
        {rows.map((l) => (
          <tr key={l.id} className="hover:bg-wash">
            <td className={cellClass}>
              <div className="flex gap-2">
                <ColourMark colour={l.colour} />
                <div>
                  <Link
                    to="/lists/$id"
                    params={{ id: l.id }}
                    search={(before) => ({ ...trialOf(before) })}
                    className="font-semibold underline decoration-rule underline-offset-2 hover:decoration-ink"
                  >
                    {l.name}
                  </Link>
                  <DraftMark id={l.id} />
                  <p className="text-sm text-soft">{l.description}</p>
                </div>
              </div>
            </td>
            <td className={`${cellClass} text-right`}>{formatNumber(l.entryCount)}</td>
            <td className={`${cellClass} min-w-28`}>
              {l.usedBy.join(', ') || <span className="text-soft">nothing</span>}
            </td>
            <td className={cellClass}>{l.owner}</td>
            <td className={`${cellClass} whitespace-nowrap`}>
              {formatMoment(l.updatedAt)} <span className="text-soft">by {l.updatedBy}</span>
            </td>
            <td className={`${cellClass} text-right`}>
              <Hits used={used?.get(l.id)} name={l.name} query={`list:${quoted(l.name)}`} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

function NewListDialog({ onClose }: { onClose: () => void }) {
  const create = useCreateList()
  const navigate = useNavigate()
  return (
    <ListFormDialog
      onClose={onClose}
      title="New list"
      description="It begins empty and does nothing until a rule names it."
      action="Make the list"
      initial={{ name: '', description: '', owner: '', colour: '', forStints: false }}
      save={create.mutateAsync}
      told={(list) => `Made the list ${list.name}.`}
      then={(list) =>
        void navigate({ to: '/lists/$id', params: { id: list.id }, search: (before) => ({ ...trialOf(before) }) })
      }
    />
  )
}
