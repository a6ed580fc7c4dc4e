import { useQuery } from '@tanstack/react-query'
import { Link, useParams, useSearch } from '@tanstack/react-router'
import { FileUp, RefreshCw, Undo2 } from 'lucide-react'
import { useRef } from 'react'
import { trialOf } from '../address/trialSearch'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button, buttonClass } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { count, formatNumber } from '../ui/format'
import { Loading, ProblemNotice } from '../ui/Notice'
import { viewClass } from '../ui/viewClass'
import { HistoryView } from './PackHistory'
import { SettingsView } from './PackSettingsView'
import { type Pack, packOptions, useFillPack, useUndoPack } from './packQueries'
import { Standing } from './Standing'
import { UpdateView } from './UpdateView'

/** One pack: the changes of a waiting update, the results of past ones, and the settings. */
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
            <Button does="pullPack" disabled={busy} onClick={() => run({})}>
              <RefreshCw size={15} aria-hidden /> Pull now
            </Button>
          )}
          <Button does="importPack" disabled={busy} onClick={() => file.current?.click()}>
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
              does="undoPack"
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
          <Button look="danger" does="pullPack" onClick={() => run({ force: true })}>
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
