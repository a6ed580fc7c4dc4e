import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { Dialog, DialogBody, DialogFoot } from '../ui/Dialog'
import { fieldClass, TextField } from '../ui/Field'
import { count } from '../ui/format'
import { Loading, ProblemNotice } from '../ui/Notice'
import { useSettled } from '../ui/useSettled'
import { LinesField } from './LinesField'
import { type FileReading, fullReport, type List, previewOptions, type Report, useImport } from './listQueries'
import { ReportCounts, ReportLines } from './ReportView'
import { useUndo } from './useUndo'

type Props = { list: List; from: 'paste' | 'file'; onClose: () => void }

/** Adds entries to a list, typed, pasted or from a file. It shows the result for each line before anything is saved. */
export function ImportDialog({ list, from, onClose }: Props) {
  return (
    <Dialog
      open
      wide
      onOpenChange={(open) => open || onClose()}
      title={from === 'paste' ? `Add entries to ${list.name}` : `Import a file into ${list.name}`}
      description="One entry a line. Addresses from a browser, hosts-file lines and the like are turned into the entry meant. Lines that are refused do not stop the others."
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
  const [reading, setReading] = useState<FileReading>({ format: 'lines' })
  const preview = useQuery({
    ...previewOptions(
      list.id,
      file ?? '',
      file ? `${file.name} ${file.size} ${file.lastModified}` : '',
      replace,
      reading,
    ),
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
            accept="text/*,.txt,.list,.hosts,.csv,.jsonl,.ndjson,.rpz,.zone,.gz,.zst"
            onChange={(e) => {
              const chosen = e.target.files?.[0] ?? null
              setFile(chosen)
              if (chosen) setReading({ format: formatOf(chosen.name) })
            }}
            className="file:mr-3 file:h-8 file:rounded-sm file:border file:border-edge file:bg-leaf file:px-3 file:font-semibold file:text-ink file:text-sm"
          />
          <span className="text-sm text-soft">
            One entry a line, CSV or JSON Lines; plain, or packed with gzip or zstd; up to 128 MiB.
          </span>
        </label>
        {file && <ReadingFields reading={reading} onChange={setReading} />}
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
        {file && report && report.changed + report.refused > 0 && (
          <Button onClick={() => saveReport(list, file, replace, reading)}>Save the report</Button>
        )}
        <Button onClick={onClose}>Cancel</Button>
        <SaveButton
          report={report}
          pending={save.isPending}
          replace={replace}
          onSave={() => file && save.mutate(file, replace, reading)}
        />
      </DialogFoot>
    </>
  )
}

function useSave(list: List, onClose: () => void) {
  const announce = useAnnounce()
  const undo = useUndo(list)
  const save = useImport(list.id)
  const mutate = (file: Blob | string, replace = false, reading?: FileReading) =>
    save.mutate(
      { file, replace, reading },
      {
        onSuccess: (report) => {
          announce(
            `${count(report.added, 'entry', 'entries')} added, ${report.updated} updated, ${report.same} there already` +
              (report.removed > 0 ? `, ${report.removed} taken out` : '') +
              (report.refused > 0 ? `, ${count(report.refused, 'line', 'lines')} refused.` : '.'),
            undo(report.list?.version),
          )
          onClose()
        },
      },
    )
  return { error: save.error, isPending: save.isPending, mutate }
}

type SaveProps = { report?: Report; pending: boolean; replace?: boolean; onSave: () => void }

/** The label of the button, which says what it will do. */
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

/** The likely format of a file, by its name. */
function formatOf(name: string): FileReading['format'] {
  const bare = name.toLowerCase().replace(/\.(gz|zst)$/, '')
  if (bare.endsWith('.csv')) return 'csv'
  if (/\.(rpz|zone)$/.test(bare)) return 'zone'
  return /\.(jsonl|ndjson)$/.test(bare) ? 'jsonl' : 'lines'
}

type ReadingProps = { reading: FileReading; onChange: (reading: FileReading) => void }

/** The options of reading a file; for a table, its columns. */
function ReadingFields({ reading, onChange }: ReadingProps) {
  const table = reading.format === 'csv' || reading.format === 'jsonl'
  const what = reading.format === 'csv' ? 'Column' : 'Field'
  return (
    <div className="flex gap-4">
      <label className="flex flex-col gap-1 font-semibold text-sm">
        Written as
        <select
          value={reading.format}
          onChange={(e) => onChange({ format: e.target.value as FileReading['format'] })}
          className={`${fieldClass} h-9 font-normal text-base`}
        >
          <option value="lines">lines</option>
          <option value="csv">CSV</option>
          <option value="jsonl">JSON Lines</option>
          <option value="zone">a response policy zone</option>
        </select>
      </label>
      {table && (
        <>
          <TextField
            label={`${what} with the entries`}
            placeholder={reading.format === 'csv' ? 'the first' : 'entry'}
            value={reading.column ?? ''}
            onChange={(e) => onChange({ ...reading, column: e.target.value || undefined })}
          />
          <TextField
            label={`${what} with the notes`}
            placeholder={reading.format === 'csv' ? 'none' : 'note'}
            value={reading.noteColumn ?? ''}
            onChange={(e) => onChange({ ...reading, noteColumn: e.target.value || undefined })}
          />
        </>
      )}
    </div>
  )
}

/** Saves the results for all changed and refused lines as a CSV file (RFC 4180). */
async function saveReport(list: List, file: File, replace: boolean, reading: FileReading) {
  const report = await fullReport(list.id, file, replace, reading)
  const rows = [
    ['line', 'column', 'outcome', 'text', 'entries', 'remark'],
    ...report.refusedLines.map((l) => [l.line, l.column, 'refused', l.text, '', l.message]),
    ...report.changedLines.map((l) => [l.line, '', 'changed', l.text, l.entries.join(' | '), l.changes.join('; ')]),
  ]
  const text = rows.map((row) => row.map((cell) => `"${String(cell).replaceAll('"', '""')}"`).join(',')).join('\r\n')
  const url = URL.createObjectURL(new Blob([text], { type: 'text/csv' }))
  const link = document.createElement('a')
  link.href = url
  link.download = `${file.name}.report.csv`
  link.click()
  URL.revokeObjectURL(url)
}
