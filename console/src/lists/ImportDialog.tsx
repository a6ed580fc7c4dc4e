import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { Dialog, DialogBody, DialogFoot } from '../ui/Dialog'
import { count } from '../ui/format'
import { Loading, ProblemNotice } from '../ui/Notice'
import { useSettled } from '../ui/useSettled'
import { LinesField } from './LinesField'
import { type List, previewOptions, type Report, useImport } from './listQueries'
import { ReportCounts, ReportLines } from './ReportView'

type Props = { list: List; from: 'paste' | 'file'; onClose: () => void }

/** Entries for a list, typed, pasted or from a file. What would become of each line is shown before anything is kept. */
export function ImportDialog({ list, from, onClose }: Props) {
  return (
    <Dialog
      open
      wide
      onOpenChange={(open) => open || onClose()}
      title={from === 'paste' ? `Add entries to ${list.name}` : `Import a file into ${list.name}`}
      description="One entry a line. Addresses from a browser, hosts-file lines and the like are turned into the entry meant. Lines that are refused do not spoil the others."
    >
      {from === 'paste' ? <PasteForm list={list} onClose={onClose} /> : <FileForm list={list} onClose={onClose} />}
    </Dialog>
  )
}

type FormProps = { list: List; onClose: () => void }

function PasteForm({ list, onClose }: FormProps) {
  const [text, setText] = useState('')
  const settled = useSettled(text)
  const preview = useQuery({ ...previewOptions(list.id, settled, settled), enabled: settled.trim() !== '' })
  const report = settled === text && settled.trim() !== '' && !preview.isPlaceholderData ? preview.data : undefined
  const save = useSave(list, onClose)
  const lines = text.split('\n')
  const replaceLine = (number: number, line: string) => {
    setText(lines.map((old, i) => (i === number - 1 ? line : old)).join('\n'))
  }
  return (
    <>
      <DialogBody>
        <LinesField
          label="Entries"
          value={text}
          onChange={setText}
          refused={report?.refusedLines}
          changed={report?.changedLines}
        />
        {preview.error && <ProblemNotice error={preview.error} />}
        {report && <ReportLines report={report} onMend={replaceLine} />}
        {save.error && <ProblemNotice error={save.error} />}
      </DialogBody>
      <DialogFoot>
        <span className="grow">{report && <ReportCounts report={report} />}</span>
        <Button onClick={onClose}>Cancel</Button>
        <SaveButton report={report} pending={save.isPending} onSave={() => save.mutate(text)} />
      </DialogFoot>
    </>
  )
}

function FileForm({ list, onClose }: FormProps) {
  const [file, setFile] = useState<File | null>(null)
  const [replace, setReplace] = useState(false)
  const preview = useQuery({
    ...previewOptions(list.id, file ?? '', file ? `${file.name} ${file.size} ${file.lastModified}` : '', replace),
    enabled: file !== null,
  })
  const save = useSave(list, onClose)
  const report = file && !preview.isPlaceholderData ? preview.data : undefined
  return (
    <>
      <DialogBody>
        <label className="flex flex-col items-start gap-2 border border-edge border-dashed px-4 py-4">
          <span className="font-semibold text-sm">File</span>
          <input
            type="file"
            // biome-ignore lint/a11y/noAutofocus: the dialog is for this field
            autoFocus
            accept="text/*,.txt,.list,.hosts"
            onChange={(e) => setFile(e.target.files?.[0] ?? null)}
            className="file:mr-3 file:h-8 file:rounded-sm file:border file:border-edge file:bg-leaf file:px-3 file:font-semibold file:text-ink file:text-sm"
          />
          <span className="text-sm text-soft">Plain text, one entry a line, of up to 128 MiB.</span>
        </label>
        <label className="flex items-baseline gap-2 text-sm">
          <input
            type="checkbox"
            checked={replace}
            onChange={(e) => setReplace(e.target.checked)}
            className="accent-reed"
          />
          <span>
            The file replaces the list: entries that it does not name are taken out.{' '}
            <span className="text-soft">Those that stay keep their notes.</span>
          </span>
        </label>
        {file && preview.isFetching && <Loading what={`a report on ${file.name}`} />}
        {preview.error && <ProblemNotice error={preview.error} retry={() => preview.refetch()} />}
        {report && <ReportLines report={report} />}
        {save.error && <ProblemNotice error={save.error} />}
      </DialogBody>
      <DialogFoot>
        <span className="grow">{report && <ReportCounts report={report} />}</span>
        <Button onClick={onClose}>Cancel</Button>
        <SaveButton
          report={report}
          pending={save.isPending}
          replace={replace}
          onSave={() => file && save.mutate(file, replace)}
        />
      </DialogFoot>
    </>
  )
}

function useSave(list: List, onClose: () => void) {
  const announce = useAnnounce()
  const save = useImport(list.id)
  const mutate = (file: Blob | string, replace = false) =>
    save.mutate(
      { file, replace },
      {
        onSuccess: (report) => {
          announce(
            `${count(report.added, 'entry', 'entries')} added, ${report.updated} updated, ${report.same} there already` +
              (report.removed > 0 ? `, ${report.removed} taken out` : '') +
              (report.refused > 0 ? `, ${count(report.refused, 'line', 'lines')} refused.` : '.'),
          )
          onClose()
        },
      },
    )
  return { error: save.error, isPending: save.isPending, mutate }
}

type SaveProps = { report?: Report; pending: boolean; replace?: boolean; onSave: () => void }

/** Says what it will do. */
function SaveButton({ report, pending, replace, onSave }: SaveProps) {
  const usable = report ? report.good + report.changed + report.notes : 0
  const verb = replace ? 'Replace the list by' : 'Add'
  let says = 'Add them'
  if (pending) says = 'Working…'
  else if (report && report.refused > 0) says = `${verb} ${count(usable, 'line', 'lines')}, leave ${report.refused} out`
  else if (usable > 0) says = `${verb} ${count(usable, 'line', 'lines')}`
  return (
    <Button look="main" disabled={usable === 0 || pending} onClick={onSave}>
      {says}
    </Button>
  )
}
