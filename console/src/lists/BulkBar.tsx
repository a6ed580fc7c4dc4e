import { useIsFetching, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { Dialog, DialogBody, DialogFoot } from '../ui/Dialog'
import { fieldClass, TextField } from '../ui/Field'
import { count } from '../ui/format'
import { MomentField } from '../ui/MomentField'
import { ProblemNotice } from '../ui/Notice'
import { SaveDialog } from '../ui/SaveDialog'
import { type List, listsOptions, type Selection, useCopyEntries, useRemoveEntries, useSetEntries } from './listQueries'
import { useUndo } from './useUndo'

type Props = {
  list: List
  which: Selection
  /** The number of chosen lines. */
  chosen: number
  onDone: () => void
}

/** Whether the list is being fetched: the page may then show an older version, on which the service would refuse an edit. */
const useBehind = (list: List) => useIsFetching({ queryKey: ['lists', list.id], exact: true }) > 0

/** The actions on chosen entries. Each is one change and can be undone. */
export function BulkBar({ list, which, chosen, onDone }: Props) {
  const [open, setOpen] = useState<'copy' | 'set' | null>(null)
  const remove = useRemoveEntries(list)
  const announce = useAnnounce()
  const undo = useUndo(list)
  const behind = useBehind(list)
  return (
    <>
      <span>{count(chosen, 'line', 'lines')} chosen</span>
      <Button does="editEntries" onClick={() => setOpen('set')}>
        Set note, end, switch
      </Button>
      <Button does="copyEntries" onClick={() => setOpen('copy')}>
        Move or copy
      </Button>
      <Button
        look="danger"
        disabled={behind || remove.isPending}
        onClick={() =>
          afterwards(remove.mutateAsync(which), ({ removed, list: after }) => {
            announce(`Took ${count(removed, 'line', 'lines')} out of ${list.name}.`, undo(after.version))
            onDone()
          })
        }
      >
        Take out of the list
      </Button>
      <Button look="quiet" onClick={onDone}>
        Choose none
      </Button>
      {remove.error && <ProblemNotice error={remove.error} />}
      {open === 'set' && (
        <SetDialog list={list} which={which} chosen={chosen} onClose={() => setOpen(null)} onDone={onDone} />
      )}
      {open === 'copy' && (
        <CopyDialog list={list} which={which} chosen={chosen} onClose={() => setOpen(null)} onDone={onDone} />
      )}
    </>
  )
}

type DialogProps = Props & { onClose: () => void }

function SetDialog({ list, which, chosen, onClose, onDone }: DialogProps) {
  const [note, setNote] = useState<string | null>(null)
  const [until, setUntil] = useState<string | null>(null)
  const [off, setOff] = useState<'' | 'on' | 'off'>('')
  const set = useSetEntries(list)
  const undo = useUndo(list)
  const behind = useBehind(list)
  const nothing = note === null && until === null && off === ''
  return (
    <SaveDialog
      title={`Set ${count(chosen, 'line', 'lines')}`}
      does="editEntries"
      description="What you leave alone stays as it is with each of them."
      action="Set them"
      ready={!nothing && !behind}
      save={() =>
        set.mutateAsync({
          which,
          note: note ?? undefined,
          until: until ?? undefined,
          off: off === '' ? undefined : off === 'off',
        })
      }
      told={({ edited }) => `Changed ${count(edited, 'entry', 'entries')}.`}
      undo={({ list: after }) => undo(after.version)}
      then={() => {
        onClose()
        onDone()
      }}
      onClose={onClose}
    >
      {() => (
        <>
          <TextField
            label="Note"
            placeholder="stays as it is"
            value={note ?? ''}
            disabled={note === ''}
            onChange={(e) => setNote(e.target.value || null)}
          />
          <Clear label="Take their notes away" on={note === ''} onChange={(on) => setNote(on ? '' : null)} />
          <MomentField
            label="Last day in force"
            day
            value={until ?? ''}
            disabled={until === ''}
            onChange={(day) => setUntil(day || null)}
          />
          <Clear label="Take their last days away" on={until === ''} onChange={(on) => setUntil(on ? '' : null)} />
          <label className="flex flex-col items-start gap-1 font-semibold text-sm">
            Switch
            <select
              value={off}
              onChange={(e) => setOff(e.target.value as typeof off)}
              className={`${fieldClass} h-9 font-normal text-base`}
            >
              <option value="">stays as it is</option>
              <option value="on">in force</option>
              <option value="off">off: kept, but not in force</option>
            </select>
          </label>
        </>
      )}
    </SaveDialog>
  )
}

type ClearProps = { label: string; on: boolean; onChange: (on: boolean) => void }

function Clear({ label, on, onChange }: ClearProps) {
  return (
    <label className="-mt-2 flex items-baseline gap-2 text-sm">
      <input type="checkbox" checked={on} onChange={(e) => onChange(e.target.checked)} className="accent-reed" />
      {label}
    </label>
  )
}

function CopyDialog({ list, which, chosen, onClose, onDone }: DialogProps) {
  const lists = useQuery(listsOptions)
  const others = (lists.data ?? []).filter((l) => l.id !== list.id)
  const [to, setTo] = useState('')
  const copy = useCopyEntries(list)
  const announce = useAnnounce()
  const undo = useUndo(list)
  const behind = useBehind(list)
  const run = (move: boolean) =>
    afterwards(copy.mutateAsync({ which, to, move }), (done) => {
      const told = `${move ? 'Moved' : 'Copied'} to ${done.list.name}: ${done.added} added, ${done.same + done.updated} there already.`
      announce(told, move ? undo(done.list.version, 'Bring them back here') : undefined)
      onClose()
      onDone()
    })
  return (
    <Dialog
      open
      onOpenChange={(open) => open || onClose()}
      title={`Move or copy ${count(chosen, 'line', 'lines')}`}
      description="What the other list has already stays as it is there."
    >
      <DialogBody>
        <label className="flex flex-col gap-1 font-semibold text-sm">
          To the list
          <select
            value={to}
            onChange={(e) => setTo(e.target.value)}
            className={`${fieldClass} h-9 font-normal text-base`}
          >
            <option value="">Choose a list</option>
            {others.map((l) => (
              <option key={l.id} value={l.id}>
                {l.name}
              </option>
            ))}
          </select>
        </label>
        {copy.error && <ProblemNotice error={copy.error} />}
      </DialogBody>
      <DialogFoot>
        <Button onClick={onClose}>Cancel</Button>
        <Button disabled={!to || behind || copy.isPending} onClick={() => run(false)}>
          Copy them
        </Button>
        <Button look="main" disabled={!to || behind || copy.isPending} onClick={() => run(true)}>
          Move them
        </Button>
      </DialogFoot>
    </Dialog>
  )
}
