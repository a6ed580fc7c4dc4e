import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, data, match, type Schemas } from '../api/client'
import { useEdit } from '../api/useEdit'
import { Button } from '../ui/Button'
import { Dialog, DialogBody } from '../ui/Dialog'
import { TextField } from '../ui/Field'
import { Menu, MenuItem } from '../ui/Menu'
import { SaveDialog } from '../ui/SaveDialog'
import { type Column, columnNames } from './columns'
import { searchesOptions } from './journalQueries'

type Kept = Schemas['SavedSearch']

type Props = { q: string; columns: Column[]; onSearch: (q: string, columns: Column[]) => void }

/** A menu of the searches that are kept: one's own and those that are shared. */
export function KeptSearches({ q, columns, onSearch }: Props) {
  const all = useQuery(searchesOptions)
  const [open, setOpen] = useState<Kept | 'new' | 'columns' | null>(null)
  const mine = all.data?.find((s) => s.mine && s.query === q)
  return (
    <>
      <Menu trigger={<Button>Kept searches</Button>}>
        {all.data?.map((s) => (
          <MenuItem key={s.id} onSelect={() => onSearch(s.query, s.columns ?? [])}>
            {s.name}
            {s.shared && <span className="ml-2 text-soft text-sm">{s.mine ? 'shared' : s.owner}</span>}
          </MenuItem>
        ))}
        <MenuItem onSelect={() => setOpen(mine ?? 'new')}>
          {mine ? `Change ${mine.name}…` : 'Keep this search…'}
        </MenuItem>
      </Menu>
      <Button onClick={() => setOpen('columns')}>Columns</Button>
      {open === 'columns' && (
        <ColumnsDialog columns={columns} onChange={(c) => onSearch(q, c)} onClose={() => setOpen(null)} />
      )}
      {open && open !== 'columns' && (
        <KeepDialog kept={open === 'new' ? undefined : open} q={q} columns={columns} onClose={() => setOpen(null)} />
      )}
    </>
  )
}

function ColumnsDialog({
  columns,
  onChange,
  onClose,
}: {
  columns: Column[]
  onChange: (c: Column[]) => void
  onClose: () => void
}) {
  const all = Object.keys(columnNames) as Column[]
  return (
    <Dialog
      open
      onOpenChange={(open) => open || onClose()}
      title="Columns"
      description="What is shown of each record. The address keeps them, and so does a search that is kept."
    >
      <DialogBody>
        <div className="grid grid-cols-3 gap-x-3 gap-y-1">
          {all.map((c) => (
            <label key={c} className="flex items-center gap-2">
              <input
                type="checkbox"
                className="accent-reed"
                checked={columns.includes(c)}
                onChange={() =>
                  onChange(
                    columns.includes(c)
                      ? columns.filter((o) => o !== c)
                      : all.filter((o) => o === c || columns.includes(o)),
                  )
                }
              />
              {columnNames[c][0]}
            </label>
          ))}
        </div>
      </DialogBody>
    </Dialog>
  )
}

function KeepDialog({ kept, q, columns, onClose }: { kept?: Kept; q: string; columns: Column[]; onClose: () => void }) {
  const [name, setName] = useState(kept?.name ?? '')
  const [shared, setShared] = useState(kept?.shared ?? false)
  const save = useEdit((body: Schemas['SavedSearchInput']) =>
    kept
      ? data(api.PUT('/api/v1/searches/{id}', { params: { path: { id: kept.id }, header: match(kept.version) }, body }))
      : data(api.POST('/api/v1/searches', { body })),
  )
  const remove = useEdit((s: Kept) => api.DELETE('/api/v1/searches/{id}', { params: { path: { id: s.id } } }))
  return (
    <SaveDialog
      title={kept ? 'Kept search' : 'Keep this search'}
      does="addSearch"
      description="With its columns."
      action="Keep it"
      ready={name.trim() !== ''}
      save={() => save.mutateAsync({ name, query: q, columns, shared })}
      told={(saved) => `${saved.name} is kept.`}
      remove={kept && { thing: kept, by: remove }}
      onClose={onClose}
    >
      {(wrong) => (
        <>
          <TextField
            label="Name"
            value={name}
            onChange={(e) => setName(e.target.value)}
            error={wrong('name')}
            autoFocus
          />
          <label className="flex items-center gap-2 text-sm">
            <input
              type="checkbox"
              className="accent-reed"
              checked={shared}
              onChange={(e) => setShared(e.target.checked)}
            />
            For everybody
          </label>
        </>
      )}
    </SaveDialog>
  )
}
