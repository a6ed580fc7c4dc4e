import { useNavigate, useSearch } from '@tanstack/react-router'
import { Plus } from 'lucide-react'
import { useMemo, useState } from 'react'
import { DraftMark } from '../draft/DraftMark'
import { Concerns, useAsked, useMay } from '../may/may'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { formatEnd, formatMoment } from '../ui/clock'
import { fieldClass } from '../ui/Field'
import { Menu, MenuItem } from '../ui/Menu'
import { Mono } from '../ui/Mono'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { VerdictMark } from '../ui/VerdictMark'
import { ViewButtons } from '../ui/ViewButtons'
import { Hits } from '../usage/Hits'
import { quoted } from '../usage/quoted'
import { type Used, useUsage } from '../usage/useUsage'
import { CodesView } from './CodesView'
import { codesOptions } from './codeQueries'
import { ExceptionDialog } from './ExceptionDialog'
import { type Exception, exceptionsOptions, useRemoveException, useSaveException } from './exceptionQueries'
import { GrantDialog } from './GrantDialog'
import { GrantsView } from './GrantsView'
import { grantsOptions } from './grantQueries'
import { inView, whomSaid } from './standing'
import { exceptionViews, type View } from './views'

const viewNames: Record<View, string> = {
  'in-force': 'In force',
  soon: 'Over within a week',
  later: 'Later',
  over: 'Over or off',
  all: 'All',
  grants: 'Grants',
  codes: 'Codes',
}

/** The operation that a view asks for. */
const asks = { grants: 'getGrants', codes: 'getCodes' } as const

/** The views that an account may see. */
const seen = (may: ReturnType<typeof useMay>) =>
  Object.fromEntries(
    exceptionViews
      .filter((v) => may(v in asks ? asks[v as keyof typeof asks] : 'getExceptions', { people: true }))
      .map((v) => [v, viewNames[v]]),
  ) as Record<View, string>

const about: Partial<Record<View, string>> = {
  grants: 'Allowed at once and for some time, without publishing. They end by themselves.',
  codes: 'Ways past rules that hold pages: codes of the help desk, and who has come past.',
}

/** All exceptions, by standing: in force now, ending soon, over. */
export function ExceptionsPage() {
  const all = useAsked('getExceptions', exceptionsOptions)
  const may = useMay()
  const { view = may('getExceptions') ? 'in-force' : 'codes', q = '' } = useSearch({ from: '/exceptions' })
  const navigate = useNavigate({ from: '/exceptions' })
  const [open, setOpen] = useState<Exception | 'new' | null>(null)
  const used = useUsage(
    'exception',
    useMemo(() => (all.data ?? []).map((e) => e.id), [all.data]),
  )
  const shown = (all.data ?? [])
    .filter(
      (e) =>
        inView(view, e) && `${e.name} ${e.entries} ${e.reason} ${whomSaid(e)}`.toLowerCase().includes(q.toLowerCase()),
    )
    .sort((a, b) => (a.until ?? '9').localeCompare(b.until ?? '9'))
  const grants = useAsked('getGrants', grantsOptions)
  const codes = useAsked('getCodes', codesOptions)
  const own = view !== 'grants' && view !== 'codes' // exceptions themselves
  const counts = {
    ...Object.fromEntries(exceptionViews.map((v) => [v, (all.data ?? []).filter((e) => inView(v, e)).length])),
    grants: (grants.data ?? []).filter((g) => g.state === 'in force').length,
    codes: codes.data?.passages.length ?? 0,
  }
  return (
    <Concerns people>
      <div className="flex h-full flex-col overflow-y-auto px-5 pb-6">
        <div className="flex items-end gap-3 pt-4 pb-3">
          <div className="grow">
            <h1 className="font-semibold text-xl">Exceptions</h1>
            <p className="text-soft">
              {about[view] ?? 'For some people, some pages, some days: each with a reason and, normally, an end.'}
            </p>
          </div>
          <Button
            look="main"
            does={view === 'grants' ? 'addGrant' : view === 'codes' ? 'addCode' : 'addException'}
            onClick={() => setOpen('new')}
          >
            <Plus size={16} aria-hidden />{' '}
            {view === 'grants' ? 'New grant' : view === 'codes' ? 'New code' : 'New exception'}
          </Button>
        </div>
        <ViewButtons
          names={seen(may)}
          chosen={view}
          counts={counts}
          onChoose={(v) => navigate({ search: (before) => ({ ...before, view: v }) })}
        >
          <span className="grow" />
          <input
            type="search"
            aria-label="Filter exceptions"
            placeholder="Filter"
            value={q}
            onChange={(e) =>
              navigate({ search: (before) => ({ ...before, q: e.target.value || undefined }), replace: true })
            }
            className={`${fieldClass} h-8 w-56`}
          />
        </ViewButtons>
        {view === 'grants' && <GrantsView filter={q} />}
        {view === 'codes' && <CodesView filter={q} making={open === 'new'} onMade={() => setOpen(null)} />}
        {own && all.isPending && <Loading what="the exceptions" />}
        {own && all.error && <ProblemNotice error={all.error} retry={() => all.refetch()} />}
        {own && all.data && shown.length === 0 && (
          <EmptyNotice
            title={all.data.length === 0 ? 'No exceptions yet' : 'None match'}
            action={
              all.data.length === 0 ? (
                <Button look="main" does="addException" onClick={() => setOpen('new')}>
                  Make the first exception
                </Button>
              ) : undefined
            }
          >
            {all.data.length === 0
              ? 'The quickest way to one is a trial: it offers the narrowest exception that would change the verdict.'
              : 'Look at another state, or take the filter away.'}
          </EmptyNotice>
        )}
        {own && shown.length > 0 && (
          <table className="w-full border-collapse" onKeyDown={onRowKeys}>
            <thead>
              <tr>
                <Head className="w-[36%]">Exception</Head>
                <Head className="w-20">Then</Head>
                <Head>Covers</Head>
                <Head>For</Head>
                <Head>Until</Head>
                <Head right>Hits in 30 days</Head>
                <Head className="w-8">
                  <span className="sr-only">Do</span>
                </Head>
              </tr>
            </thead>
            <tbody>
              {shown.map((e) => (
                <Row key={e.id} exception={e} used={used?.get(e.id)} onOpen={() => setOpen(e)} />
              ))}
            </tbody>
          </table>
        )}
        {open === 'new' && view === 'grants' && <GrantDialog onClose={() => setOpen(null)} />}
        {open && view !== 'grants' && view !== 'codes' && (
          <ExceptionDialog exception={open === 'new' ? undefined : open} onClose={() => setOpen(null)} />
        )}
      </div>
    </Concerns>
  )
}

function Row({ exception: e, used, onOpen }: { exception: Exception; used?: Used; onOpen: () => void }) {
  const may = useMay()
  const save = useSaveException(e)
  const remove = useRemoveException()
  const announce = useAnnounce()
  const { id: _id, version: _v, updatedAt: _at, updatedBy: _by, state: _s, ...input } = e
  const soon = inView('soon', e)
  return (
    <tr className="hover:bg-wash">
      <td className={cellClass}>
        <button
          type="button"
          onClick={onOpen}
          className="text-left font-semibold underline decoration-rule underline-offset-2 hover:decoration-ink"
        >
          {e.name}
        </button>
        <DraftMark id={e.id} />
        <p className="text-sm text-soft">
          {e.reason}
          {e.requestedBy && ` Asked for by ${e.requestedBy}.`}
        </p>
        {(save.error || remove.error) && <ProblemNotice error={(save.error ?? remove.error) as Error} />}
      </td>
      <td className={cellClass}>
        <VerdictMark verdict={e.then} />
      </td>
      <td className={cellClass}>
        {e.entries.map((entry) => (
          <p key={entry}>
            <Mono>{entry}</Mono>
          </p>
        ))}
      </td>
      <td className={cellClass}>{whomSaid(e)}</td>
      <td className={`${cellClass} whitespace-nowrap text-sm`}>
        {e.until ? <span className={soon ? 'text-ochre' : undefined}>{formatEnd(e.until)}</span> : 'no end'}
        <p className="text-soft">
          {e.state}
          {e.state === 'later' && e.from && ` from ${formatMoment(e.from)}`}
        </p>
      </td>
      <td className={`${cellClass} text-right`}>
        <Hits used={used} name={e.name} query={`exception:${quoted(e.name)}`} />
      </td>
      <td className={cellClass}>
        <Menu
          trigger={
            <button type="button" aria-label={`What to do with ${e.name}`} className="rounded-sm px-2 hover:bg-wash">
              ⋯
            </button>
          }
        >
          <MenuItem onSelect={onOpen}>{may('putException') ? 'Change' : 'Look at it'}</MenuItem>
          {e.state === 'in force' && (
            <MenuItem
              does="putException"
              onSelect={() =>
                afterwards(save.mutateAsync({ ...input, until: new Date().toISOString() }), () =>
                  announce(`Ended ${e.name}.`),
                )
              }
            >
              End it now
            </MenuItem>
          )}
          <MenuItem
            does="putException"
            onSelect={() =>
              afterwards(save.mutateAsync({ ...input, off: !e.off }), () =>
                announce(`${e.name} is switched ${e.off ? 'on' : 'off'}.`),
              )
            }
          >
            {e.off ? 'Switch on' : 'Switch off'}
          </MenuItem>
          <MenuItem
            does="removeException"
            onSelect={() => afterwards(remove.mutateAsync(e), () => announce(`Deleted ${e.name}.`))}
          >
            Delete
          </MenuItem>
        </Menu>
      </td>
    </tr>
  )
}
