import { useQuery } from '@tanstack/react-query'
import { Link, useNavigate, useSearch } from '@tanstack/react-router'
import { clsx } from 'clsx'
import { lazy, Suspense, useState } from 'react'
import { QueryField } from '../journal/QueryField'
import { useAsked, useNames } from '../may/may'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button, buttonClass } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { formatNumber } from '../ui/format'
import { Loading, ProblemNotice } from '../ui/Notice'
import { VerdictMark, verdicts } from '../ui/VerdictMark'
import { ViewButtons } from '../ui/ViewButtons'
import { changeOf } from './change'
import { ReportDialog } from './ReportDialog'
import {
  type Asked,
  fileOf,
  type KeptReport,
  type MadeReport,
  ofPeople,
  reportsOptions,
  sectionOptions,
  sections,
  spans,
  useSendReport,
} from './reportQueries'
import { SectionTable } from './SectionTable'

const ReportChart = lazy(async () => ({ default: (await import('./ReportChart')).ReportChart }))

/** What was recorded in a period, with pictures; and the reports that are kept and sent. */
export function ReportsPage() {
  const { q = '', span = '7d', compare = true, id } = useSearch({ from: '/reports' })
  const navigate = useNavigate({ from: '/reports' })
  const kept = useAsked('getReports', reportsOptions)
  const report = kept.data?.find((r) => r.id === id)
  const asked: Asked = report
    ? { q: report.query ?? '', span: report.span, compare: report.compare ?? false }
    : { q, span, compare }
  const over = useQuery(sectionOptions(asked, 'over'))
  const [open, setOpen] = useState<'new' | 'edit' | null>(null)
  const go = (to: { q?: string; span?: typeof span; compare?: boolean }) =>
    navigate({ search: (s) => ({ ...s, ...asked, ...to, id: undefined }) })
  const names = useNames()
  const shown = sections
    .filter(([key]) => names || !ofPeople.includes(key))
    .filter(([key]) => !report?.sections?.length || report.sections.includes(key))
  const wrong = over.error && 'fields' in over.error && (over.error.fields as ReadonlyMap<string, string>).has('q')
  return (
    <div className="flex h-full">
      <nav aria-label="Reports" className="w-56 shrink-0 overflow-y-auto border-rule border-r px-4 py-4 print:hidden">
        <h2 className="pb-1 font-semibold text-sm text-soft">Reports</h2>
        <ul className="flex flex-col">
          <li>
            <Kept name="Overview" chosen={!report} search={{}} />
          </li>
          {kept.data?.map((r) => (
            <li key={r.id}>
              <Kept name={r.name} chosen={r.id === id} search={{ id: r.id }} />
              {r.nextAt && <p className="text-soft text-xs">next {formatMoment(r.nextAt)}</p>}
            </li>
          ))}
        </ul>
      </nav>
      <div className="flex min-w-0 grow flex-col gap-4 overflow-y-auto px-5 pb-8">
        <div className="flex items-start gap-2 pt-4">
          <div className="min-w-0 grow">
            <h1 className="font-semibold text-xl">{report?.name ?? 'Overview'}</h1>
            <p className="text-soft">{over.data?.period ?? 'What was recorded in a period.'}</p>
          </div>
          {report ? (
            <Button does="putReport" onClick={() => setOpen('edit')}>
              Change
            </Button>
          ) : (
            <Button does="addReport" onClick={() => setOpen('new')}>
              Keep…
            </Button>
          )}
          {report && (report.to?.length ?? 0) > 0 && <Send report={report} />}
          <a className={buttonClass()} href={fileOf(asked, 'csv', report?.name, report?.sections)} download>
            CSV
          </a>
          <a
            className={buttonClass('main')}
            href={fileOf(asked, 'pdf', report?.name ?? 'Overview', report?.sections)}
            download
          >
            PDF
          </a>
        </div>
        {report?.deliveries[0] && <Delivered report={report} />}
        {!report && (
          <div className="flex flex-col gap-3 print:hidden">
            <ViewButtons names={spans} chosen={asked.span} onChoose={(s) => go({ span: s })}>
              <label className="ml-auto flex items-center gap-2 text-sm">
                <input
                  type="checkbox"
                  className="accent-reed"
                  checked={asked.compare}
                  onChange={(e) => go({ compare: e.target.checked })}
                />
                Beside the period before
              </label>
            </ViewButtons>
            <QueryField
              placeholder='group:"Ward nurses" -category:news'
              query={asked.q}
              onSearch={(next) => go({ q: next })}
              error={over.error}
            />
          </div>
        )}
        {over.isPending && <Loading what="the report" />}
        {over.error && !wrong && <ProblemNotice error={over.error} retry={() => over.refetch()} />}
        {over.data && !wrong && (
          <>
            <Totals made={over.data} compare={asked.compare} />
            <Suspense fallback={<div className="h-56 shrink-0" />}>
              <ReportChart over={over.data.sections[0]?.over ?? []} compare={asked.compare} />
            </Suspense>
            <div className="grid grid-cols-1 gap-x-8 gap-y-6 min-[75rem]:grid-cols-2">
              {shown.map(([key, title]) => (
                <SectionTable key={key} asked={asked} section={key} title={title} />
              ))}
            </div>
          </>
        )}
      </div>
      {open && (
        <ReportDialog
          report={open === 'edit' ? report : undefined}
          asked={asked}
          onClose={() => setOpen(null)}
          onSaved={(saved) => {
            setOpen(null)
            void navigate({ search: { id: saved.id } })
          }}
        />
      )}
    </div>
  )
}

function Kept({ name, chosen, search }: { name: string; chosen: boolean; search: { id?: string } }) {
  return (
    <Link
      to="/reports"
      search={search}
      aria-current={chosen ? 'page' : undefined}
      className={clsx('block truncate py-1', chosen ? 'font-semibold' : 'hover:underline')}
    >
      {name}
    </Link>
  )
}

function Send({ report }: { report: KeptReport }) {
  const send = useSendReport()
  const announce = useAnnounce()
  return (
    <>
      <Button
        disabled={send.isPending}
        onClick={() =>
          afterwards(send.mutateAsync(report.id), (sent) => announce(`It is on its way to ${sent.to.join(', ')}.`))
        }
      >
        Send now
      </Button>
      {send.error && <ProblemNotice error={send.error} />}
    </>
  )
}

function Delivered({ report }: { report: KeptReport }) {
  const last = report.deliveries[0]
  if (!last) return null
  return (
    <p className={clsx('text-sm', last.problem ? 'text-clay' : 'text-soft')}>
      {last.doneAt
        ? `Last sent to ${last.to}, ${formatMoment(last.doneAt)}.`
        : `To ${last.to}: ${last.state}${last.problem ? `, as ${last.problem}` : ''}.`}
    </p>
  )
}

/** How many requests there were, and how that differs from the period before. */
function Totals({ made, compare }: { made: MadeReport; compare: boolean }) {
  return (
    <dl className="flex flex-wrap gap-x-10 gap-y-2">
      <Total name="requests" now={made.total.all} before={made.earlier.all} compare={compare} query={made.query} />
      {verdicts.map((v) => (
        <Total
          key={v}
          name={<VerdictMark verdict={v} />}
          now={made.total[v]}
          before={made.earlier[v]}
          compare={compare}
          query={`${made.query} verdict:${v}`}
        />
      ))}
    </dl>
  )
}

type TotalProps = { name: React.ReactNode; now: number; before: number; compare: boolean; query: string }

function Total({ name, now, before, compare, query }: TotalProps) {
  return (
    <div className="flex flex-col-reverse">
      <dt className="text-sm text-soft">
        {name} {compare && <span className="ml-1 tabular-nums">{changeOf(now, before)}</span>}
      </dt>
      <dd className="font-semibold text-xl tabular-nums">
        <Link to="/journal" search={{ q: query }} className="hover:underline">
          {formatNumber(now)}
        </Link>
      </dd>
    </div>
  )
}
