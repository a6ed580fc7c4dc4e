import { useQuery } from '@tanstack/react-query'
import { clsx } from 'clsx'
import { FileUp, KeyRound, Plus, RefreshCw, Undo2 } from 'lucide-react'
import { type ReactNode, useRef, useState } from 'react'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { Dialog, DialogBody, DialogFoot } from '../ui/Dialog'
import { count, formatNumber } from '../ui/format'
import { Mono } from '../ui/Mono'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { DirectoryChanges } from './DirectoryChanges'
import { DirectoryDialog } from './DirectoryDialog'
import {
  type Directory,
  directoriesOptions,
  directoryHistoryOptions,
  useAdoptDirectory,
  useDirectoryToken,
  useImportDirectory,
  usePreviewDirectory,
  useSettleDirectory,
  useSyncDirectory,
  useUndoDirectory,
} from './directoryQueries'

/** People and groups that others keep. */
export function DirectoriesView() {
  const all = useQuery(directoriesOptions)
  const [chosen, setChosen] = useState<string | null>(null)
  const [open, setOpen] = useState<'new' | Directory | null>(null)
  if (all.isPending) return <Loading what="the directories" />
  if (all.error) return <ProblemNotice error={all.error} retry={() => all.refetch()} />
  const current = all.data.find((d) => d.id === chosen) ?? all.data[0]
  const add = (
    <Button does="addDirectory" onClick={() => setOpen('new')}>
      <Plus size={15} aria-hidden /> Directory
    </Button>
  )
  return (
    <div className="flex min-h-0 grow flex-col pt-3">
      <div className="flex items-center gap-3 pb-3">
        <p className="grow text-soft">
          People and groups that others keep. What a directory says holds at once, in the draft and live alike.
        </p>
        {all.data.length > 0 && add}
      </div>
      {current === undefined ? (
        <EmptyNotice title="No directory is read yet." action={add}>
          Have people and groups read from an LDAP server or a file, or sent by a program: who leaves there keeps no
          powers here.
        </EmptyNotice>
      ) : (
        <div className="grid min-h-0 grow grid-cols-[minmax(11rem,22%)_minmax(0,1fr)] gap-6">
          <nav aria-label="Directories" className="overflow-y-auto border-rule border-r pr-3">
            <ul>
              {all.data.map((d) => (
                <li key={d.id}>
                  <button
                    type="button"
                    aria-current={d.id === current.id}
                    onClick={() => setChosen(d.id)}
                    className={clsx(
                      'w-full border-l-3 px-3 py-1.5 text-left hover:bg-wash',
                      d.id === current.id ? 'border-reed bg-reed-wash' : 'border-transparent',
                    )}
                  >
                    <span className="font-semibold">{d.name}</span>
                    <span
                      className={clsx('block text-sm', d.waiting || d.result === 'failed' ? 'text-ochre' : 'text-soft')}
                    >
                      {standing(d)}
                    </span>
                  </button>
                </li>
              ))}
            </ul>
          </nav>
          <OneDirectory key={current.id} directory={current} onSettings={() => setOpen(current)} />
        </div>
      )}
      {open && <DirectoryDialog directory={open === 'new' ? undefined : open} onClose={() => setOpen(null)} />}
    </div>
  )
}

function standing(d: Directory): string {
  if (d.waiting) return 'a change waits'
  if (d.result === 'failed') return 'the last reading failed'
  if (!d.inForce) return 'nobody yet'
  return count(d.inForce.people, 'person', 'people')
}

/** Where a directory is read from, in a few words. */
function from(d: Directory): string {
  const often = d.nextAt ? `, every ${d.everyMinutes === 60 ? 'hour' : `${d.everyMinutes} minutes`}` : ''
  if (d.kind === 'scim')
    return d.hasToken ? 'Sent by a program that has its token.' : 'Nobody sends people yet: make a token for a program.'
  if (d.kind === 'ldap') return `From ${d.url}, below ${d.base}${often}.`
  return d.url ? `From ${d.url}${often}.` : 'From files that are handed over.'
}

function OneDirectory({ directory: d, onSettings }: { directory: Directory; onSettings: () => void }) {
  const sync = useSyncDirectory(d.id)
  const load = useImportDirectory(d.id)
  const undo = useUndoDirectory(d.id)
  const preview = usePreviewDirectory(d.id)
  const token = useDirectoryToken(d.id)
  const announce = useAnnounce()
  const file = useRef<HTMLInputElement>(null)
  const busy = sync.isPending || load.isPending || d.running
  return (
    <section aria-label={d.name} className="flex min-h-0 flex-col gap-3 overflow-y-auto pb-6">
      <div>
        <h2 className="font-semibold text-lg">{d.name}</h2>
        <p className="text-soft">{from(d)}</p>
        {d.inForce && (
          <p>
            In force: {count(d.inForce.people, 'person', 'people')} and {count(d.inForce.groups, 'group', 'groups')} of{' '}
            {formatMoment(d.inForce.arrivedAt)}.
          </p>
        )}
        <p className="text-sm text-soft">
          {!d.waiting && d.told} {d.syncedAt && `Last read ${formatMoment(d.syncedAt)}.`}{' '}
          {d.nextAt && `Next ${formatMoment(d.nextAt)}.`}
        </p>
      </div>
      <div className="flex flex-wrap gap-2">
        {(d.kind !== 'file' || d.url !== '') && (
          <>
            <Button does="previewDirectory" disabled={busy || preview.isPending} onClick={() => preview.mutate()}>
              What would change?
            </Button>
            <Button
              does="syncDirectory"
              disabled={busy}
              onClick={() => afterwards(sync.mutateAsync(), (after) => announce(after.told))}
            >
              <RefreshCw size={15} aria-hidden /> Read now
            </Button>
          </>
        )}
        {d.kind === 'file' && (
          <>
            <Button does="importDirectory" disabled={busy} onClick={() => file.current?.click()}>
              <FileUp size={15} aria-hidden /> Hand a file over
            </Button>
            <input
              ref={file}
              type="file"
              hidden
              aria-label="File of people"
              onChange={(e) => {
                const chosen = e.target.files?.[0]
                if (chosen) afterwards(load.mutateAsync(chosen), (after) => announce(after.told))
                e.target.value = ''
              }}
            />
          </>
        )}
        {d.kind === 'scim' && (
          <Button does="makeDirectoryToken" disabled={token.isPending} onClick={() => token.mutate()}>
            <KeyRound size={15} aria-hidden /> {d.hasToken ? 'New token' : 'Make a token'}
          </Button>
        )}
        {d.canUndo && (
          <Button
            does="undoDirectory"
            disabled={busy || undo.isPending}
            onClick={() =>
              afterwards(undo.mutateAsync(), (after) =>
                announce(`State ${after.inForce?.number} is in force again.`, {
                  label: 'Undo',
                  run: () => undo.mutate(),
                }),
              )
            }
          >
            <Undo2 size={15} aria-hidden /> Back to the state before
          </Button>
        )}
        <Button onClick={onSettings}>Settings</Button>
      </div>
      {[sync, load, undo, preview, token].map(
        (by) => by.error && <ProblemNotice key={by.error.message} error={by.error} />,
      )}
      {d.waiting && <Waiting directory={d} />}
      <Sentences title="Not used of the last reading" all={d.leftOut} />
      <Sentences
        title={`${count(d.shadowed.length, 'person is', 'people are')} elsewhere under the same name, and counts there`}
        note="In the draft, in the live revision or in another directory. Once the name is free, the next reading has them."
        all={d.shadowed}
      >
        <HandOver directory={d} />
      </Sentences>
      <History directory={d} />
      {preview.data && (
        <Dialog
          open
          wide
          onOpenChange={() => preview.reset()}
          title={`What reading ${d.name} now would change`}
          description="Nothing is kept of this."
        >
          <DialogBody>
            {preview.data.why.map((why) => (
              <p key={why} className="text-ochre">
                It would wait: {why}.
              </p>
            ))}
            {preview.data.leftOut.map((left) => (
              <p key={left} className="text-sm text-soft">
                Cannot be used: {left}.
              </p>
            ))}
            {preview.data.changes.length === 0 ? (
              <p>Nothing: it says what is in force.</p>
            ) : (
              <DirectoryChanges changes={preview.data.changes} total={total(preview.data.state)} />
            )}
          </DialogBody>
          <DialogFoot>
            <Button onClick={() => preview.reset()}>Close</Button>
          </DialogFoot>
        </Dialog>
      )}
      {token.data && (
        <Dialog
          open
          onOpenChange={() => token.reset()}
          title="Token of the directory"
          description="It is shown this once. The one before is no good any more."
        >
          <DialogBody>
            <p>
              The program speaks SCIM at <Mono>{token.data.url}</Mono> with the bearer token
            </p>
            <p className="break-all border-rule border-l-3 bg-wash px-3 py-2">
              <Mono>{token.data.token}</Mono>
            </p>
          </DialogBody>
          <DialogFoot>
            <Button look="main" onClick={() => token.reset()}>
              I have it
            </Button>
          </DialogFoot>
        </Dialog>
      )}
    </section>
  )
}

const total = (state?: { came: number; changed: number; went: number }) =>
  state ? state.came + state.changed + state.went : 0

/** The state that waits: why, what it changes, and what can be done with it. */
function Waiting({ directory: d }: { directory: Directory }) {
  const settle = useSettleDirectory(d.id)
  const announce = useAnnounce()
  const waits = d.waiting
  if (!waits) return null
  const does = (verb: 'accept' | 'refuse', told: string) =>
    afterwards(settle.mutateAsync({ verb, number: waits.number }), () => announce(told))
  return (
    <section aria-label="The change that waits" className="border-ochre border-l-3 bg-ochre-wash px-4 py-3">
      <div className="flex items-start gap-3">
        <div className="grow">
          <h3 className="font-semibold">
            A change waits: {formatNumber(waits.came)} come, {formatNumber(waits.changed)} change,{' '}
            {formatNumber(waits.went)} go
          </h3>
          {d.why.map((why) => (
            <p key={why}>Because {why}.</p>
          ))}
        </div>
        <Button
          does="refuseDirectory"
          disabled={settle.isPending}
          onClick={() => does('refuse', 'The state in force stays.')}
        >
          Refuse
        </Button>
        <Button
          look="main"
          does="acceptDirectory"
          disabled={settle.isPending}
          onClick={() => does('accept', `State ${waits.number} of ${d.name} is in force.`)}
        >
          Put in force
        </Button>
      </div>
      {settle.error && <ProblemNotice error={settle.error} />}
      <DirectoryChanges directory={d} />
    </section>
  )
}

type SentencesProps = { title: string; note?: string; all: string[]; children?: ReactNode }

function Sentences({ title, note, all, children }: SentencesProps) {
  const [whole, setWhole] = useState(false)
  if (all.length === 0) return null
  const some = whole ? all : all.slice(0, 5)
  return (
    <section aria-label={title}>
      <div className="flex items-start gap-3">
        <h3 className="grow font-semibold">{title}</h3>
        {children}
      </div>
      {note && <p className="text-sm text-soft">{note}</p>}
      <p className="text-sm">
        {some.join(' · ')}
        {all.length > some.length && (
          <>
            {' · '}
            <button type="button" onClick={() => setWhole(true)} className="underline underline-offset-2">
              {formatNumber(all.length - some.length)} more
            </button>
          </>
        )}
      </p>
    </section>
  )
}

/** Hands over who is in the draft under the same name, after a look at who that is. */
function HandOver({ directory: d }: { directory: Directory }) {
  const look = useAdoptDirectory(d.id)
  const adopt = useAdoptDirectory(d.id)
  const announce = useAnnounce()
  const people = look.data?.people ?? 0
  return (
    <>
      <Button does="adoptDirectory" disabled={look.isPending} onClick={() => look.mutate({ preview: true })}>
        Hand them over…
      </Button>
      {look.error && <ProblemNotice error={look.error} />}
      {look.data && (
        <Dialog
          open
          onOpenChange={() => look.reset()}
          title={`Hand people over to ${d.name}`}
          description="They stay who they are, with all that names them, and are edited in the directory from then on."
        >
          <DialogBody>
            <p>{count(people, 'person of the draft', 'people of the draft')} can be handed over, at once.</p>
            <Sentences title={`${formatNumber(look.data.kept.length)} stay in the draft`} all={look.data.kept} />
            {adopt.error && <ProblemNotice error={adopt.error} />}
          </DialogBody>
          <DialogFoot>
            <Button onClick={() => look.reset()}>Cancel</Button>
            <Button
              look="main"
              does="adoptDirectory"
              disabled={people === 0 || adopt.isPending}
              onClick={() =>
                afterwards(adopt.mutateAsync({ preview: false }), (done) => {
                  announce(`${count(done.people, 'person is', 'people are')} the directory's now.`)
                  look.reset()
                })
              }
            >
              Hand over
            </Button>
          </DialogFoot>
        </Dialog>
      )}
    </>
  )
}

function History({ directory: d }: { directory: Directory }) {
  const history = useQuery(directoryHistoryOptions(d))
  const [seen, setSeen] = useState<number | null>(null)
  if (history.isPending) return <Loading what="the history" />
  if (history.error) return <ProblemNotice error={history.error} retry={() => history.refetch()} />
  if (history.data.events.length === 0) return null
  const states = new Map(history.data.states.map((s) => [s.number, s]))
  return (
    <section aria-label="History">
      <h3 className="font-semibold">History</h3>
      <table className="w-full border-collapse" onKeyDown={onRowKeys}>
        <thead>
          <tr>
            <Head>When</Head>
            <Head>Who</Head>
            <Head>What</Head>
            <Head right>State</Head>
            <Head right>People</Head>
            <Head right>Came</Head>
            <Head right>Changed</Head>
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
                <td className={`${cellClass} text-right`}>{e.number}</td>
                <td className={`${cellClass} text-right`}>{s && formatNumber(s.people)}</td>
                <td className={`${cellClass} text-right`}>{s && formatNumber(s.came)}</td>
                <td className={`${cellClass} text-right`}>{s && formatNumber(s.changed)}</td>
                <td className={`${cellClass} text-right`}>{s && formatNumber(s.went)}</td>
                <td className={`${cellClass} text-right`}>
                  {e.number > 1 && (
                    <Button look="quiet" className="h-6!" onClick={() => setSeen(e.number)}>
                      What changed
                    </Button>
                  )}
                </td>
              </tr>
            )
          })}
        </tbody>
      </table>
      {seen !== null && (
        <Dialog
          open
          wide
          onOpenChange={() => setSeen(null)}
          title={`State ${seen} of ${d.name}`}
          description={`Against state ${seen - 1}, the one that was read before it.`}
        >
          <DialogBody>
            <DirectoryChanges directory={d} from={seen - 1} to={seen} />
          </DialogBody>
          <DialogFoot>
            <Button onClick={() => setSeen(null)}>Close</Button>
          </DialogFoot>
        </Dialog>
      )}
    </section>
  )
}
