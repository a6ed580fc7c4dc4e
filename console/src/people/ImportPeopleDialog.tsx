import { useState } from 'react'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { Dialog, DialogBody, DialogFoot } from '../ui/Dialog'
import { Check } from '../ui/Field'
import { count, formatNumber } from '../ui/format'
import { ProblemNotice } from '../ui/Notice'
import { useImportPeople, usePreviewPeople } from './peopleQueries'

/** Brings people and groups up to date with a file: it shows the changes first and makes them then. */
export function ImportPeopleDialog({ onClose }: { onClose: () => void }) {
  const [file, setFile] = useState<File | null>(null)
  const [remove, setRemove] = useState(false)
  const preview = usePreviewPeople()
  const take = useImportPeople()
  const announce = useAnnounce()
  const format = file?.name.toLowerCase().endsWith('.csv') ? 'csv' : 'ldif'
  const look = (chosen: File | null) => {
    setFile(chosen)
    if (chosen) {
      preview.mutate({
        file: chosen,
        format: chosen.name.toLowerCase().endsWith('.csv') ? 'csv' : 'ldif',
        preview: true,
        remove: false,
      })
    }
  }
  const report = preview.data
  const nothing =
    report &&
    report.new.length + report.changed.length + report.newGroups.length === 0 &&
    !(remove && report.missing.length > 0)
  return (
    <Dialog
      open
      onOpenChange={(open) => open || onClose()}
      title="Import people"
      description="A directory's file (LDIF), or a table (CSV) with the columns name, full name, mail, groups and key."
    >
      <DialogBody>
        <label className="flex flex-col gap-1 font-semibold text-sm">
          File
          <input
            type="file"
            accept=".ldif,.csv,.txt"
            onChange={(e) => look(e.target.files?.[0] ?? null)}
            className="rounded-sm border border-edge bg-leaf p-1.5 font-normal file:mr-3 file:rounded-sm file:border file:border-edge file:bg-leaf file:px-2 file:py-0.5"
          />
        </label>
        {preview.isPending && file && <p className="text-soft">Reading…</p>}
        {preview.error && <ProblemNotice error={preview.error} />}
        {report && (
          <>
            <p role="status">
              {count(report.new.length, 'person', 'people')} new, {formatNumber(report.changed.length)} changed,{' '}
              {formatNumber(report.same)} as before
              {report.newGroups.length > 0 && `; ${count(report.newGroups.length, 'new group', 'new groups')}`}.
            </p>
            <Some title="New groups" all={report.newGroups} />
            <Some title="Changed" all={report.changed} />
            <Some title="Not in the file any more" all={report.missing} />
            <Some title="Could not be used" all={report.left} />
            {report.missing.length > 0 && (
              <Check
                label={`Take out the ${formatNumber(report.missing.length)} who are not in the file any more`}
                checked={remove}
                onChange={setRemove}
              />
            )}
          </>
        )}
        {take.error && <ProblemNotice error={take.error} />}
      </DialogBody>
      <DialogFoot>
        <Button onClick={onClose}>Cancel</Button>
        <Button
          look="main"
          disabled={!file || !report || nothing || take.isPending}
          onClick={() =>
            file &&
            afterwards(take.mutateAsync({ file, format, preview: false, remove }), (done) => {
              announce(`${count(done.new.length, 'person', 'people')} added, ${done.changed.length} changed.`)
              onClose()
            })
          }
        >
          {nothing ? 'Nothing to change' : 'Import'}
        </Button>
      </DialogFoot>
    </Dialog>
  )
}

function Some({ title, all }: { title: string; all: string[] }) {
  if (all.length === 0) return null
  return (
    <section aria-label={title} className="text-sm">
      <h3 className="font-semibold text-soft">{title}</h3>
      <ul>
        {all.slice(0, 6).map((line) => (
          <li key={line}>{line}</li>
        ))}
      </ul>
      {all.length > 6 && <p className="text-soft">and {formatNumber(all.length - 6)} more</p>}
    </section>
  )
}
