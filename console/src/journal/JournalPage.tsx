import { useQuery } from '@tanstack/react-query'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { clsx } from 'clsx'
import { lazy, Suspense, useState } from 'react'
import { useNames } from '../may/may'
import { Button, buttonClass } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { count, formatNumber } from '../ui/format'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { VerdictMark, verdicts } from '../ui/VerdictMark'
import { readColumns, writeColumns } from './columns'
import { FacetPanel } from './FacetPanel'
import { type JournalSummary, recordsOptions, summaryOptions } from './journalQueries'
import { KeptSearches } from './KeptSearches'
import { QueryField } from './QueryField'
import { sinceOf, withSpan, withTerm } from './queryText'
import { RecordPanel } from './RecordPanel'
import { RecordTable } from './RecordTable'
import { useTail } from './useTail'

const OverChart = lazy(async () => ({ default: (await import('./OverChart')).OverChart }))

/** Spans that are one click away. */
const spans = [
  ['1h', 'An hour'],
  ['24h', 'A day'],
  ['7d', 'A week'],
  ['30d', '30 days'],
] as const

/** What the gates decided: searched, counted, and followed as it comes. */
export function JournalPage() {
  const { q = '', record, before, cols } = useSearch({ from: '/journal' })
  const navigate = useNavigate({ from: '/journal' })
  const [follow, setFollow] = useState(false)
  const [paused, setPaused] = useState(false)
  const columns = readColumns(cols)
  const tail = useTail(q, follow, paused)
  const found = useQuery({ ...recordsOptions(q, before), enabled: !follow })
  const summary = useQuery(summaryOptions(q, useNames()))
  const search = (next: string) =>
    navigate({ search: (s) => ({ ...s, q: next || undefined, before: undefined, record: undefined }) })
  const open = (id?: string) => navigate({ search: (s) => ({ ...s, record: id }) })
  const error = found.error ?? summary.error
  const wrong = error && 'fields' in error && (error.fields as ReadonlyMap<string, string>).has('q')
  const records = follow ? tail.records : (found.data?.records ?? [])
  return (
    <div className="flex h-full">
      <div className="flex min-w-0 grow flex-col gap-3 overflow-y-auto px-5 pb-6">
        <div className="flex items-start gap-3 pt-4">
          <div className="grow">
            <h1 className="font-semibold text-xl">Journal</h1>
            <p className="text-soft">What the gates decided, for whom, and by which rule.</p>
          </div>
          <KeptSearches
            q={q}
            columns={columns}
            onSearch={(next, chosen) =>
              navigate({
                search: (s) => ({
                  ...s,
                  q: next || undefined,
                  cols: writeColumns(chosen),
                  before: undefined,
                  record: undefined,
                }),
              })
            }
          />
          <Button aria-pressed={follow} onClick={() => setFollow(!follow)}>
            {follow ? 'Stop following' : 'Follow'}
          </Button>
          <a className={buttonClass()} href={`/api/v1/journal/export?q=${encodeURIComponent(q)}`} download>
            Save as CSV
          </a>
        </div>
        <div className="flex items-start gap-4">
          <QueryField query={q} onSearch={search} error={error} />
        </div>
        <div className="flex flex-wrap items-baseline gap-x-5 gap-y-1 text-sm">
          <fieldset aria-label="Since when" className="flex gap-3">
            {spans.map(([since, name]) => {
              const now = (sinceOf(q) ?? '24h') === since
              return (
                <button
                  key={since}
                  type="button"
                  aria-pressed={now}
                  onClick={() => search(withSpan(q, since))}
                  className={clsx('underline-offset-4', now ? 'font-semibold underline' : 'text-soft hover:text-ink')}
                >
                  {name}
                </button>
              )
            })}
          </fieldset>
          {summary.data && !wrong && <Totals summary={summary.data} />}
        </div>
        {error && !wrong && <ProblemNotice error={error} retry={() => found.refetch()} />}
        {summary.data && summary.data.over.length > 0 && !follow && !wrong && (
          <Suspense fallback={<div className="h-28 shrink-0" />}>
            <OverChart over={summary.data.over} onSpan={(from, to) => search(withSpan(q, iso(from), to && iso(to)))} />
          </Suspense>
        )}
        {follow && (
          <p role="status" className="flex items-center gap-3 text-sm text-soft">
            {tail.connected ? 'Following what is recorded.' : 'Connecting…'}
            {paused && tail.waiting > 0 && ` ${count(tail.waiting, 'record waits', 'records wait')}.`}
            <Button look="quiet" aria-pressed={paused} onClick={() => setPaused(!paused)}>
              {paused ? 'Go on' : 'Pause'}
            </Button>
          </p>
        )}
        {!follow && found.isPending && !error && <Loading what="the records" />}
        {!follow && found.data?.records.length === 0 && !wrong && (
          <EmptyNotice title="No recorded request is like that">
            {found.data.recent
              ? 'The query does not say since when, so only the last day was searched.'
              : 'Another span of time, or fewer terms, may find some.'}
          </EmptyNotice>
        )}
        {records.length > 0 && !wrong && (
          <div className={clsx('shrink-0 overflow-x-auto', found.isPlaceholderData && !follow && 'opacity-60')}>
            <RecordTable columns={columns} records={records} open={record} onOpen={open} />
          </div>
        )}
        {!follow && found.data?.next && !wrong && (
          <p className="flex items-center gap-3 text-sm">
            <Button onClick={() => navigate({ search: (s) => ({ ...s, before: found.data.next }) })}>
              Earlier ones
            </Button>
            {before && (
              <Button onClick={() => navigate({ search: (s) => ({ ...s, before: undefined }) })}>The latest</Button>
            )}
            <span className="text-soft">Looked back until {formatMoment(found.data.reached)}.</span>
          </p>
        )}
      </div>
      {record ? (
        <RecordPanel id={record} onClose={() => open()} />
      ) : (
        summary.data &&
        !wrong && (
          <aside aria-label="In common" className="w-64 shrink-0 overflow-y-auto border-rule border-l px-4 py-4">
            <FacetPanel summary={summary.data} onTerm={(term) => search(withTerm(q, term))} />
          </aside>
        )
      )}
    </div>
  )
}

const iso = (moment: string) => new Date(moment).toISOString().replace('.000', '')

/** How many requests there were, by verdict. */
function Totals({ summary: s }: { summary: JournalSummary }) {
  return (
    <p role="status" className="flex flex-wrap items-baseline gap-x-4">
      <span className="font-semibold">{count(s.total.all, 'request', 'requests')}</span>
      {verdicts
        .filter((v) => s.total[v] > 0)
        .map((v) => (
          <span key={v} className="inline-flex items-baseline gap-1.5 tabular-nums">
            <VerdictMark verdict={v} /> {formatNumber(s.total[v])}
          </span>
        ))}
      <span className="text-soft">
        since {formatMoment(s.from)}
        {s.recent && ', as the query does not say since when'}
        {(s.broken ?? 0) > 0 &&
          `; ${count(s.broken ?? 0, 'part', 'parts')} of the journal cannot be read, and ${s.broken === 1 ? 'is' : 'are'} left out`}
        {s.reached > s.from && `; counted back until ${formatMoment(s.reached)}, as the rest takes longer`}
      </span>
    </p>
  )
}
