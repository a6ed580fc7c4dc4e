import { useQuery } from '@tanstack/react-query'
import { Link, useNavigate, useParams, useSearch } from '@tanstack/react-router'
import { Download, Ellipsis, FileUp, Network, Pencil, Plus, Trash2 } from 'lucide-react'
import { useState } from 'react'
import { trialOf } from '../address/trialSearch'
import { Concerns } from '../may/may'
import { useAnnounce } from '../ui/announce'
import { Button, buttonClass, IconButton } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { Dialog, DialogBody, DialogFoot } from '../ui/Dialog'
import { fieldClass } from '../ui/Field'
import { count } from '../ui/format'
import { Menu, MenuItem } from '../ui/Menu'
import { Loading, ProblemNotice } from '../ui/Notice'
import { viewClass } from '../ui/viewClass'
import { ColourMark } from './Colour'
import { CompanionsDialog } from './CompanionsDialog'
import { EntryTable } from './EntryTable'
import { HistoryView } from './HistoryView'
import { ImportDialog } from './ImportDialog'
import { kinds, type View, views } from './kinds'
import { ListFormDialog } from './ListFormDialog'
import { type Kind, type List, listOptions, useDeleteList, useEditList } from './listQueries'
import { SourceView } from './SourceView'
import { mostLines, TextView } from './TextView'
import { TidyView } from './TidyView'

type Open = 'paste' | 'file' | 'edit' | 'delete' | 'companions' | null

/** One list with its entries. */
export function ListPage() {
  const { id } = useParams({ from: '/lists/$id' })
  const list = useQuery(listOptions(id))
  if (list.isPending) {
    return (
      <div className="px-5 py-4">
        <Loading what="the list" />
      </div>
    )
  }
  if (list.error) {
    return (
      <div className="flex flex-col items-start gap-4 px-5 py-4">
        <ProblemNotice error={list.error} retry={() => list.refetch()} />
        <Link to="/lists" search={true} className={buttonClass()}>
          All lists
        </Link>
      </div>
    )
  }
  return (
    <Concerns list={id}>
      <Loaded key={id} list={list.data} />
    </Concerns>
  )
}

function Loaded({ list }: { list: List }) {
  const { q = '', kind, view } = useSearch({ from: '/lists/$id' })
  const navigate = useNavigate({ from: '/lists/$id' })
  const [open, setOpen] = useState<Open>(null)
  const setSearch = (change: { q?: string; kind?: Kind }) =>
    navigate({ search: (before) => ({ ...before, ...change }), replace: true })
  const close = () => setOpen(null)
  return (
    <div className="flex h-full flex-col px-5 pt-4">
      <nav aria-label="Where this is" className="text-sm text-soft">
        <Link to="/lists" search={(before) => ({ ...trialOf(before) })} className="underline underline-offset-2">
          Lists
        </Link>{' '}
        ›
      </nav>
      <div className="flex items-start gap-6 pb-3">
        <div className="grow">
          <h1 className="flex gap-2 font-semibold text-xl">
            {list.colour && <ColourMark colour={list.colour} />}
            {list.name}
          </h1>
          <p>{list.description}</p>
          <p className="text-sm text-soft">
            {count(list.entryCount, 'entry', 'entries')}
            {list.noteCount > 0 && `, ${count(list.noteCount, 'note', 'notes')}`} · used by{' '}
            {list.usedBy.join(', ') || 'nothing'}
            {list.owner && ` · owner ${list.owner}`} · changed {formatMoment(list.updatedAt)} by {list.updatedBy}
          </p>
        </div>
        <div className="flex shrink-0 gap-2 pt-1">
          <Button look="main" does="addEntries" onClick={() => setOpen('paste')}>
            <Plus size={16} aria-hidden /> Add entries
          </Button>
          <Button does="importEntries" onClick={() => setOpen('file')}>
            <FileUp size={16} aria-hidden /> Import a file
          </Button>
          <Menu
            trigger={
              <IconButton label="More for this list">
                <Ellipsis size={18} aria-hidden />
              </IconButton>
            }
          >
            {Object.entries(formats).map(([format, name]) => (
              <MenuItem
                key={format}
                onSelect={() => window.location.assign(`/api/v1/lists/${list.id}/export?format=${format}`)}
              >
                <Download size={15} aria-hidden /> Save as {name}
              </MenuItem>
            ))}
            <MenuItem does="findCompanions" onSelect={() => setOpen('companions')}>
              <Network size={15} aria-hidden /> What a page needs
            </MenuItem>
            <MenuItem does="editList" onSelect={() => setOpen('edit')}>
              <Pencil size={15} aria-hidden /> Rename, describe, mark
            </MenuItem>
            <MenuItem does="deleteList" onSelect={() => setOpen('delete')}>
              <Trash2 size={15} aria-hidden /> Delete the list
            </MenuItem>
          </Menu>
        </div>
      </div>
      <ViewLinks view={view} />
      {(view === undefined || (view === 'text' && list.entryCount + list.noteCount > mostLines)) && (
        <div className="flex gap-2 pb-2">
          <input
            type="search"
            aria-label="Filter entries"
            placeholder="Filter by pattern or note"
            value={q}
            onChange={(e) => setSearch({ q: e.target.value || undefined })}
            className={`${fieldClass} h-8 w-72`}
          />
          <select
            aria-label="Kind of entry"
            value={kind ?? ''}
            onChange={(e) => setSearch({ kind: (e.target.value || undefined) as Kind | undefined })}
            className={`${fieldClass} h-8`}
          >
            <option value="">every kind</option>
            {Object.entries(kinds).map(([value, label]) => (
              <option key={value} value={value}>
                {label}
              </option>
            ))}
          </select>
        </div>
      )}
      {view === undefined && <EntryTable list={list} filter={{ text: q, kind }} onAdd={() => setOpen('paste')} />}
      {view === 'text' && <TextView list={list} filter={{ text: q, kind }} />}
      {view === 'tidy' && <TidyView list={list} />}
      {view === 'history' && <HistoryView list={list} />}
      {view === 'source' && <SourceView list={list} />}
      {open === 'companions' && <CompanionsDialog list={list} onClose={close} />}
      {(open === 'paste' || open === 'file') && <ImportDialog list={list} from={open} onClose={close} />}
      {open === 'edit' && <EditDialog list={list} onClose={close} />}
      {open === 'delete' && <DeleteDialog list={list} onClose={close} />}
    </div>
  )
}

/** The formats in which a list can be saved. */
const formats = { lines: 'a file', csv: 'CSV', jsonl: 'JSON Lines', domains: 'domains', hosts: 'a hosts file' }

const viewNames: Record<View, string> = { text: 'Text', tidy: 'Tidy', history: 'History', source: 'Source' }

/** Links to the views of the list. */
function ViewLinks({ view }: { view?: View }) {
  return (
    <nav aria-label="Ways to look at the list" className="flex gap-5 pb-3">
      {([undefined, ...views] as const).map((v) => (
        <Link
          key={v ?? 'entries'}
          from="/lists/$id"
          search={(before) => ({ ...before, view: v, from: undefined, to: undefined })}
          aria-current={view === v ? 'page' : undefined}
          className={viewClass(view === v)}
        >
          {v ? viewNames[v] : 'Entries'}
        </Link>
      ))}
    </nav>
  )
}

function EditDialog({ list, onClose }: { list: List; onClose: () => void }) {
  const edit = useEditList(list)
  return (
    <ListFormDialog
      onClose={onClose}
      title="Rename, describe, mark"
      description="Rules that name the list go on naming it."
      action="Save"
      initial={{
        name: list.name,
        description: list.description,
        owner: list.owner,
        colour: list.colour,
        forStints: list.forStints ?? false,
      }}
      save={edit.mutateAsync}
      told={(saved) => `Saved ${saved.name}.`}
    />
  )
}

function DeleteDialog({ list, onClose }: { list: List; onClose: () => void }) {
  const remove = useDeleteList(list)
  const navigate = useNavigate()
  const announce = useAnnounce()
  return (
    <Dialog
      open
      onOpenChange={(open) => open || onClose()}
      title={`Delete ${list.name}?`}
      description={`The list goes with its ${count(list.entryCount, 'entry', 'entries')}. Where it was published, Changes can bring back what is live; save any other list as a file first, if it may be wanted.`}
    >
      {remove.error && (
        <DialogBody>
          <ProblemNotice error={remove.error} />
        </DialogBody>
      )}
      <DialogFoot>
        <Button onClick={onClose}>Keep it</Button>
        <Button
          look="danger"
          disabled={remove.isPending}
          onClick={() =>
            remove.mutate(undefined, {
              onSuccess: () => {
                announce(`Deleted ${list.name}.`)
                void navigate({ to: '/lists', search: (before) => ({ ...trialOf(before) }) })
              },
            })
          }
        >
          Delete the list
        </Button>
      </DialogFoot>
    </Dialog>
  )
}
