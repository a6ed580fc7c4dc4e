import { useQuery } from '@tanstack/react-query'
import { Link, useNavigate, useParams, useSearch } from '@tanstack/react-router'
import { FileUp, RefreshCw, Undo2 } from 'lucide-react'
import { type FormEvent, useRef, useState } from 'react'
import { trialOf } from '../address/trialSearch'
import { CategoryNames } from '../categories/CategoryNames'
import { LookupLink } from '../categories/LookupLink'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button, buttonClass } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { Choice } from '../ui/Field'
import { count, formatNumber } from '../ui/format'
import { Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { viewClass } from '../ui/viewClass'
import { packForm, SettingsFields } from './PackSettings'
import {
  type Pack,
  type PackState,
  packChangesOptions,
  packHistoryOptions,
  packOptions,
  packsOptions,
  useDeletePack,
  useEditPack,
  useFillPack,
  useSettlePack,
  useUndoPack,
} from './packQueries'
import { Standing } from './Standing'

/** One pack: what an update changes, before it goes in; what it came to; what is chosen about it. */
export function PackPage() {
  const { id } = useParams({ from: '/packs/$id' })
  const pack = useQuery(packOptions(id))
  if (pack.isPending) {
    return (
      <div className="px-5 py-4">
        <Loading what="the pack" />
      </div>
    )
  }
  if (pack.error) {
    return (
      <div className="flex flex-col items-start gap-4 px-5 py-4">
        <ProblemNotice error={pack.error} retry={() => pack.refetch()} />
        <Link to="/packs" search={(before) => ({ ...trialOf(before) })} className={buttonClass()}>
          All packs
        </Link>
      </div>
    )
  }
  return <Loaded pack={pack.data} />
}

const views = { update: 'What an update changes', history: 'History', settings: 'Settings' } as const

function Loaded({ pack }: { pack: Pack }) {
  const { view = 'update' } = useSearch({ from: '/packs/$id' })
  const fill = useFillPack(pack.id)
  const undo = useUndoPack(pack.id)
  const announce = useAnnounce()
  const file = useRef<HTMLInputElement>(null)
  const busy = fill.isPending || pack.progress !== undefined
  const run = (what: { file?: Blob; force?: boolean }) =>
    afterwards(fill.mutateAsync(what), (after) => {
      const now = after.waiting ?? after.inForce
      announce(
        what.file && now
          ? `Version ${now.version}: ${formatNumber(now.added)} sites came, ${formatNumber(now.moved)} moved, ${formatNumber(now.gone)} went.`
          : after.told,
      )
    })
  return (
    <div className="flex h-full flex-col px-5 pt-4">
      <nav aria-label="Where this is" className="text-sm text-soft">
        <Link to="/packs" search={(before) => ({ ...trialOf(before) })} className="underline underline-offset-2">
          Packs
        </Link>{' '}
        ›
      </nav>
      <div className="flex items-start gap-6 pb-3">
        <div className="grow">
          <h1 className="font-semibold text-xl">{pack.name}</h1>
          <p>
            <Standing pack={pack} />
            {pack.inForce && (
              <>
                {' '}
                · version {pack.inForce.version} of {formatMoment(pack.inForce.date)},{' '}
                {count(pack.inForce.sites, 'site', 'sites')}, licence {pack.inForce.licence}
              </>
            )}
          </p>
          <p className="text-sm text-soft">
            {pack.told} {pack.triedAt && `Last pull ${formatMoment(pack.triedAt)}.`}{' '}
            {pack.nextAt ? `Next ${formatMoment(pack.nextAt)}.` : 'Filled by hand.'}
          </p>
        </div>
        <div className="flex shrink-0 gap-2 pt-1">
          {pack.url !== '' && (
            <Button disabled={busy} onClick={() => run({})}>
              <RefreshCw size={15} aria-hidden /> Pull now
            </Button>
          )}
          <Button disabled={busy} onClick={() => file.current?.click()}>
            <FileUp size={16} aria-hidden /> Import a file
          </Button>
          <input
            ref={file}
            type="file"
            hidden
            aria-label="Pack file"
            onChange={(e) => {
              const chosen = e.target.files?.[0]
              if (chosen) run({ file: chosen })
              e.target.value = ''
            }}
          />
          {pack.canUndo && (
            <Button
              disabled={busy || undo.isPending}
              onClick={() =>
                afterwards(undo.mutateAsync(), (after) =>
                  announce(`Version ${after.inForce?.version} is in force again.`, {
                    label: 'Undo',
                    run: () => undo.mutate(),
                  }),
                )
              }
            >
              <Undo2 size={15} aria-hidden /> Undo the last update
            </Button>
          )}
        </div>
      </div>
      {fill.error && <ProblemNotice error={fill.error} />}
      {undo.error && <ProblemNotice error={undo.error} />}
      {pack.progress && <ProgressLine progress={pack.progress} />}
      {pack.result === 'refused' && !busy && pack.url !== '' && (
        <div className="flex items-center gap-3 border-clay border-l-3 bg-clay-wash px-3 py-2 text-sm">
          <p className="grow">{pack.told}</p>
          <Button look="danger" onClick={() => run({ force: true })}>
            Pull, however much goes
          </Button>
        </div>
      )}
      <nav aria-label="Ways to look at the pack" className="flex gap-5 py-2">
        {Object.entries(views).map(([v, name]) => (
          <Link
            key={v}
            from="/packs/$id"
            search={(before) => ({ ...trialOf(before), view: v as keyof typeof views })}
            aria-current={view === v ? 'page' : undefined}
            className={viewClass(view === v)}
          >
            {name}
          </Link>
        ))}
      </nav>
      {view === 'update' && <UpdateView pack={pack} />}
      {view === 'history' && <HistoryView pack={pack} />}
      {view === 'settings' && <SettingsView pack={pack} />}
    </div>
  )
}

function ProgressLine({ progress }: { progress: NonNullable<Pack['progress']> }) {
  const share = progress.of > 0 ? (100 * progress.bytes) / progress.of : 0
  return (
    <div role="status" className="flex items-center gap-3 py-1 text-sm">
      <span>
        {progress.stage}: {count(progress.sites, 'site', 'sites')}
      </span>
      <span className="h-1.5 w-64 bg-wash">
        <span className="block h-full bg-reed" style={{ width: `${share}%` }} />
      </span>
    </div>
  )
}

/** What the update that waits changes: what was asked for first, so that nobody learns it from a complaint. */
function UpdateView({ pack }: { pack: Pack }) {
  const { from = 0, to = 0 } = useSearch({ from: '/packs/$id' })
  const [limit, setLimit] = useState(100)
  const changes = useQuery(packChangesOptions(pack.id, from, to, limit))
  const settle = useSettlePack(pack)
  const undo = useUndoPack(pack.id)
  const announce = useAnnounce()
  if (changes.isPending) return <Loading what="what changes" />
  if (changes.error) return <ProblemNotice error={changes.error} retry={() => changes.refetch()} />
  const c = changes.data
  const chosen = from !== 0 || to !== 0
  if (c.from === c.to) {
    return (
      <p className="py-6 text-soft">
        {pack.inForce
          ? 'No update waits: the latest version is in force. What earlier ones changed is in the history.'
          : 'Nothing has come of this pack yet. Pull it, or import a file.'}
      </p>
    )
  }
  const act = (verb: 'accept' | 'refuse') =>
    afterwards(settle.mutateAsync(verb), (after) => {
      if (verb === 'accept') {
        announce(`Version ${after.inForce?.version} is in force.`, { label: 'Undo', run: () => undo.mutate() })
      } else announce('The update stays aside; a later one is asked for again.')
    })
  return (
    <div className="min-h-0 grow overflow-y-auto pb-6">
      <div className="flex items-center gap-3 pb-4">
        <p className="grow">
          <span className="font-semibold">
            {chosen
              ? `State ${c.from} to ${c.to}`
              : pack.waiting
                ? `Version ${pack.waiting.version} waits`
                : 'The latest'}
            :
          </span>{' '}
          {count(c.added, 'site comes', 'sites come')}, {formatNumber(c.moved)} move, {formatNumber(c.gone)} go.
        </p>
        {pack.waiting && !chosen && (
          <>
            <Button look="main" disabled={settle.isPending} onClick={() => act('accept')}>
              Put it in force
            </Button>
            <Button disabled={settle.isPending} onClick={() => act('refuse')}>
              Leave it aside
            </Button>
          </>
        )}
      </div>
      {settle.error && <ProblemNotice error={settle.error} />}
      <div className="grid grid-cols-2 gap-8">
        <section aria-label="Of what was asked for">
          <h2 className="font-semibold">Of what was asked for</h2>
          <p className="pb-1 text-sm text-soft">
            {c.turned.hosts === 0
              ? 'Nothing changes category.'
              : `${count(c.turned.hosts, 'host', 'hosts')} with ${count(c.turned.requests, 'request', 'requests')} change category, the most asked for first.`}
          </p>
          <table className="w-full border-collapse" onKeyDown={onRowKeys}>
            <tbody>
              {c.turns.map((t) => (
                <tr key={t.url} className="hover:bg-wash">
                  <td className={`${cellClass} w-16 text-right`}>{formatNumber(t.requests)}</td>
                  <td className={cellClass}>
                    <LookupLink url={t.url} />
                    <Turned before={t.before} after={t.after} none="unrated" />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
        <section aria-label="Sites">
          <h2 className="font-semibold">All entries that change</h2>
          <p className="pb-1 text-sm text-soft">By name, whether anybody asked for them or not.</p>
          <table className="w-full border-collapse" onKeyDown={onRowKeys}>
            <tbody>
              {c.changes.map((s) => (
                <tr key={s.entry} className="hover:bg-wash">
                  <td className={cellClass}>
                    <LookupLink url={s.entry} />
                    <Turned before={s.before} after={s.after} none="not there" />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {c.next && (
            <Button className="mt-3" onClick={() => setLimit(Math.min(1000, limit * 3))} disabled={limit >= 1000}>
              {limit >= 1000 ? 'The command line shows all' : 'More'}
            </Button>
          )}
        </section>
      </div>
    </div>
  )
}

type TurnedProps = {
  before: Parameters<typeof CategoryNames>[0]['categories']
  after: Parameters<typeof CategoryNames>[0]['categories']
  none: string
}

function Turned({ before, after, none }: TurnedProps) {
  return (
    <p className="text-sm">
      <span className="text-soft">
        <CategoryNames categories={before} none={none} />
      </span>
      <span className="text-soft"> → </span>
      <span className="sr-only">becomes </span>
      <CategoryNames categories={after} none={none} />
    </p>
  )
}

function HistoryView({ pack }: { pack: Pack }) {
  const history = useQuery(packHistoryOptions(pack.id))
  const navigate = useNavigate({ from: '/packs/$id' })
  if (history.isPending) return <Loading what="the history" />
  if (history.error) return <ProblemNotice error={history.error} retry={() => history.refetch()} />
  const states = new Map<number, PackState>(history.data.states.map((s) => [s.number, s]))
  return (
    <div className="min-h-0 grow overflow-y-auto pb-6">
      <table className="w-full border-collapse" onKeyDown={onRowKeys}>
        <thead>
          <tr>
            <Head>When</Head>
            <Head>Who</Head>
            <Head>What</Head>
            <Head right>Version</Head>
            <Head right>Sites</Head>
            <Head right>Came</Head>
            <Head right>Moved</Head>
            <Head right>Went</Head>
            <Head>
              <span className="sr-only">Actions</span>
            </Head>
          </tr>
        </thead>
        <tbody>
          {history.data.events.map((e) => {
            const s = states.get(e.number)
            return (
              <tr key={`${e.at} ${e.what}`} className="hover:bg-wash">
                <td className={`${cellClass} whitespace-nowrap`}>{formatMoment(e.at)}</td>
                <td className={cellClass}>{e.by}</td>
                <td className={cellClass}>{e.what === 'undone' ? 'undone: in force again' : e.what}</td>
                <td className={`${cellClass} text-right`}>{e.version}</td>
                <td className={`${cellClass} text-right`}>{s && formatNumber(s.sites)}</td>
                <td className={`${cellClass} text-right`}>{s && formatNumber(s.added)}</td>
                <td className={`${cellClass} text-right`}>{s && formatNumber(s.moved)}</td>
                <td className={`${cellClass} text-right`}>{s && formatNumber(s.gone)}</td>
                <td className={`${cellClass} text-right`}>
                  {e.number > 1 && (
                    <Button
                      look="quiet"
                      onClick={() =>
                        navigate({
                          search: (before) => ({ ...before, view: 'update', from: e.number - 1, to: e.number }),
                        })
                      }
                    >
                      What changed
                    </Button>
                  )}
                </td>
              </tr>
            )
          })}
        </tbody>
      </table>
    </div>
  )
}

function SettingsView({ pack }: { pack: Pack }) {
  const [form, setForm] = useState(packForm(pack))
  const [sure, setSure] = useState(false)
  const packs = useQuery(packsOptions)
  const edit = useEditPack(pack.id)
  const remove = useDeletePack(pack.id)
  const announce = useAnnounce()
  const navigate = useNavigate()
  const submit = (event: FormEvent) => {
    event.preventDefault()
    afterwards(edit.mutateAsync(form), () => announce('Saved.'))
  }
  return (
    <form onSubmit={submit} className="flex max-w-xl flex-col gap-4 overflow-y-auto pb-6">
      <SettingsFields form={form} setForm={setForm} error={edit.error} />
      <Choice
        label="Rank"
        value={String(pack.rank)}
        onChange={(rank) => edit.mutate({ rank: Number(rank) })}
        options={(packs.data ?? []).map((p, i): [string, string] => [
          String(p.rank),
          i === 0 ? '1: asked first' : String(p.rank),
        ])}
      />
      <div className="flex gap-2">
        <Button type="submit" look="main" disabled={edit.isPending}>
          Save
        </Button>
        <span className="grow" />
        {sure ? (
          <>
            <Button onClick={() => setSure(false)}>Keep it</Button>
            <Button
              look="danger"
              onClick={() =>
                afterwards(remove.mutateAsync(), () => {
                  announce(`Took ${pack.name} out of the catalogue.`)
                  void navigate({ to: '/packs', search: (before) => ({ ...trialOf(before) }) })
                })
              }
            >
              Yes, with all its versions
            </Button>
          </>
        ) : (
          <Button look="danger" onClick={() => setSure(true)}>
            Take it out of the catalogue
          </Button>
        )}
      </div>
      {remove.error && <ProblemNotice error={remove.error} />}
    </form>
  )
}
