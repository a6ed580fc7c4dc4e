import { useInfiniteQuery } from '@tanstack/react-query'
import { useVirtualizer } from '@tanstack/react-virtual'
import { clsx } from 'clsx'
import { useEffect, useMemo, useRef, useState } from 'react'
import { useMay } from '../may/may'
import { Button } from '../ui/Button'
import { count, formatNumber } from '../ui/format'
import { Mono } from '../ui/Mono'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { Head, onRowKeys } from '../ui/Table'
import { Hits } from '../usage/Hits'
import { quoted } from '../usage/quoted'
import { type Used, useUsage } from '../usage/useUsage'
import { BulkBar } from './BulkBar'
import { kinds } from './kinds'
import { type Entry, type EntryFilter, entriesOptions, type List } from './listQueries'

type Props = { list: List; filter: EntryFilter; onAdd: () => void }

/** The height of a one-line row, in pixels; longer entries wrap, and their rows are measured. */
const rowHeight = 37

/**
 * The entries of a list. It renders only the rows in view and fetches pages while the user scrolls, so a list of any length
 * opens at once.
 */
export function EntryTable({ list, filter, onAdd }: Props) {
  const pages = useInfiniteQuery(entriesOptions(list.id, filter))
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set())
  const [all, setAll] = useState(false)
  const box = useRef<HTMLDivElement>(null)
  const entries = useMemo(() => pages.data?.pages.flatMap((page) => page.entries) ?? [], [pages.data])
  const total = pages.data?.pages[0]?.total ?? 0
  const met = useMemo(
    () => entries.filter((e) => e.kind !== 'note' && !e.carveOut).map((e) => e.pattern ?? ''),
    [entries],
  )
  const used = useUsage('entry', [list.id], met)
  const rows = useVirtualizer({
    count: entries.length,
    getScrollElement: () => box.current,
    estimateSize: () => rowHeight,
    overscan: 12,
  })
  const drawn = rows.getVirtualItems()
  const last = drawn.at(-1)?.index ?? 0
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = pages
  useEffect(() => {
    if (hasNextPage && !isFetchingNextPage && last > entries.length - 100) void fetchNextPage()
  }, [last, entries.length, hasNextPage, isFetchingNextPage, fetchNextPage])

  if (pages.isPending) return <Loading what="the entries" />
  if (pages.error) return <ProblemNotice error={pages.error} retry={() => pages.refetch()} />
  if (total === 0) {
    if (filter.text || filter.kind) return <p className="py-6 text-soft">No entry matches.</p>
    return (
      <EmptyNotice
        title="No entries yet"
        action={
          <Button look="main" does="addEntries" onClick={onAdd}>
            Add the first entries
          </Button>
        }
      >
        Write one entry a line, or paste what you have: addresses from a browser, lines of a hosts file, a note from a
        colleague. What is not understood is marked before anything is kept.
      </EmptyNotice>
    )
  }
  const toggle = (id: number) => {
    setAll(false)
    const next = new Set(chosen)
    if (!next.delete(id)) next.add(id)
    setChosen(next)
  }
  const above = drawn[0]?.start ?? 0
  const below = rows.getTotalSize() - (drawn.at(-1)?.end ?? 0)
  return (
    <>
      <section
        ref={box}
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a box that scrolls has to be reachable by the keyboard
        tabIndex={0}
        aria-label={`Entries of ${list.name}`}
        className="min-h-0 grow overflow-y-auto"
      >
        <table className="w-full table-fixed border-collapse" aria-rowcount={total + 1} onKeyDown={onRowKeys}>
          <colgroup>
            <col className="w-8" />
            <col className="w-[38%]" />
            <col className="w-24" />
            <col />
            <col className="w-20" />
          </colgroup>
          <thead>
            <tr>
              <Head>
                <span className="sr-only">Choose</span>
              </Head>
              <Head>Entry</Head>
              <Head>Kind</Head>
              <Head>Covers</Head>
              <Head right>
                <span title="In 30 days">Hits</span>
              </Head>
            </tr>
          </thead>
          <tbody>
            {above > 0 && <tr aria-hidden style={{ height: above }} />}
            {drawn.map((row) => {
              const entry = entries[row.index]
              return (
                entry && (
                  <EntryRow
                    key={entry.id}
                    entry={entry}
                    used={used?.get(entry.pattern ?? '')}
                    list={list.name}
                    index={row.index}
                    measure={rows.measureElement}
                    chosen={all || chosen.has(entry.id)}
                    onToggle={toggle}
                  />
                )
              )
            })}
            {below > 0 && <tr aria-hidden style={{ height: below }} />}
          </tbody>
        </table>
      </section>
      <div className="flex h-11 shrink-0 items-center gap-3 border-edge border-t text-sm">
        {chosen.size > 0 || all ? (
          <>
            <BulkBar
              list={list}
              which={all ? { all: true, text: filter.text, kind: filter.kind } : { ids: [...chosen] }}
              chosen={all ? total : chosen.size}
              onDone={() => {
                setChosen(new Set())
                setAll(false)
              }}
            />
            {!all && total > chosen.size && (
              <Button look="quiet" onClick={() => setAll(true)}>
                Choose all {formatNumber(total)}
              </Button>
            )}
          </>
        ) : (
          <span className="text-soft">
            {count(total, 'line', 'lines')}
            {entries.length < total && `, ${formatNumber(entries.length)} fetched so far`}
          </span>
        )}
      </div>
    </>
  )
}

type RowProps = {
  entry: Entry
  used?: Used
  list: string
  index: number
  measure: (row: HTMLTableRowElement | null) => void
  chosen: boolean
  onToggle: (id: number) => void
}

function EntryRow({ entry, used, list, index, measure, chosen, onToggle }: RowProps) {
  const may = useMay()
  const cell = 'border-rule border-b px-3 py-1.5 align-top first:pl-0 last:pr-0'
  return (
    <tr
      ref={measure}
      data-index={index}
      aria-rowindex={index + 2}
      className={clsx(chosen ? 'bg-reed-wash' : 'hover:bg-wash', entry.off && 'text-soft')}
    >
      <td className={cell}>
        <input
          type="checkbox"
          hidden={!may('removeEntries')}
          aria-label={`Choose ${entry.text}`}
          checked={chosen}
          onChange={() => onToggle(entry.id)}
          className="ml-1 size-3.5 accent-reed"
        />
      </td>
      <td className={cell}>
        {entry.kind === 'note' ? (
          <span className="text-soft italic">{entry.note}</span>
        ) : (
          <>
            {entry.carveOut && (
              <span className="mono font-semibold text-ochre" title="carve-out">
                !{' '}
              </span>
            )}
            <Mono className="mr-2">{entry.pattern}</Mono> {entry.until && <Tag>until {entry.until}</Tag>}{' '}
            {entry.off && <Tag>off</Tag>} {entry.note && <span className="text-sm text-soft">{entry.note}</span>}
          </>
        )}
      </td>
      <td className={`${cell} text-soft`}>{kinds[entry.kind]}</td>
      <td className={`${cell} text-sm`}>{entry.kind !== 'note' && entry.explain}</td>
      <td className={`${cell} text-right`}>
        {entry.kind !== 'note' && !entry.carveOut && (
          <Hits
            bare
            used={used}
            name={entry.text}
            query={`list:${quoted(list)} entry:${quoted(entry.pattern ?? '')}`}
          />
        )}
      </td>
    </tr>
  )
}

function Tag({ children }: { children: React.ReactNode }) {
  return <span className="mr-2 whitespace-nowrap rounded-sm bg-ochre-wash px-1.5 text-ochre text-xs">{children}</span>
}
