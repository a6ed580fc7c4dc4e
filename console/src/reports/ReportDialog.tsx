import { useState } from 'react'
import { Choice, TextArea, TextField } from '../ui/Field'
import { SaveDialog } from '../ui/SaveDialog'
import {
  type Asked,
  type KeptReport,
  type ReportInput,
  type SectionKey,
  sections,
  spans,
  useRemoveReport,
  useSaveReport,
} from './reportQueries'

type Props = { report?: KeptReport; asked: Asked; onClose: () => void; onSaved: (saved: KeptReport) => void }

const every = { never: 'Not sent', day: 'Every day', week: 'Every Monday', month: 'Every first of a month' }

/** Keeps a report, and says when it is sent to whom. */
export function ReportDialog({ report, asked, onClose, onSaved }: Props) {
  const [name, setName] = useState(report?.name ?? '')
  const [query, setQuery] = useState(report ? (report.query ?? '') : asked.q)
  const [span, setSpan] = useState(report?.span ?? asked.span)
  const [compare, setCompare] = useState(report ? (report.compare ?? false) : asked.compare)
  const [chosen, setChosen] = useState<Set<SectionKey>>(new Set(report?.sections ?? []))
  const [when, setWhen] = useState<keyof typeof every>(report?.timetable?.every ?? 'never')
  const [at, setAt] = useState(report?.timetable?.at ?? '07:00')
  const [to, setTo] = useState((report?.to ?? []).join('\n'))
  const [files, setFiles] = useState((report?.files ?? ['pdf']).join(','))
  const save = useSaveReport(report)
  const remove = useRemoveReport()
  const body = (): ReportInput => ({
    name,
    query: query || undefined,
    span,
    compare,
    sections: chosen.size > 0 ? ['over', ...sections.map(([key]) => key).filter((key) => chosen.has(key))] : undefined,
    timetable: when === 'never' ? undefined : { every: when, at },
    to: to
      .split('\n')
      .map((t) => t.trim())
      .filter(Boolean),
    files: files.split(',') as ReportInput['files'],
  })
  return (
    <SaveDialog
      title={report ? 'Report' : 'Keep this report'}
      does="putReport"
      description="Everybody sees it. With a timetable, it is mailed as a file."
      wide
      action="Keep it"
      ready={name.trim() !== ''}
      save={() => save.mutateAsync(body())}
      told={(saved) => `${saved.name} is kept.`}
      then={onSaved}
      remove={report && { thing: report, by: remove }}
      onClose={onClose}
    >
      {(wrong) => (
        <div className="grid grid-cols-2 gap-6">
          <div className="flex flex-col gap-4">
            <TextField
              label="Name"
              value={name}
              onChange={(e) => setName(e.target.value)}
              error={wrong('name')}
              autoFocus
            />
            <TextField
              label="Only requests that this finds"
              hint="In the language of the journal, without a time. Empty: all of them."
              className="mono"
              value={query}
              onChange={(e) => setQuery(e.target.value)}
              error={wrong('query')}
            />
            <Choice
              label="Period"
              value={span}
              onChange={(s) => setSpan(s as typeof span)}
              options={Object.entries(spans)}
            />
            <label className="flex items-center gap-2 text-sm">
              <input
                type="checkbox"
                className="accent-reed"
                checked={compare}
                onChange={(e) => setCompare(e.target.checked)}
              />
              Beside the period before
            </label>
            <fieldset>
              <legend className="font-semibold text-sm">Sections</legend>
              <p className="text-soft text-sm">None chosen: all of them.</p>
              <div className="grid grid-cols-2 gap-x-3 pt-1 text-sm">
                {sections.map(([key, title]) => (
                  <label key={key} className="flex items-center gap-2">
                    <input
                      type="checkbox"
                      className="accent-reed"
                      checked={chosen.has(key)}
                      onChange={() => {
                        const next = new Set(chosen)
                        if (!next.delete(key)) next.add(key)
                        setChosen(next)
                      }}
                    />
                    {title}
                  </label>
                ))}
              </div>
            </fieldset>
          </div>
          <div className="flex flex-col gap-4">
            <Choice
              label="Sent"
              value={when}
              onChange={(w) => setWhen(w as typeof when)}
              options={Object.entries(every)}
            />
            {wrong('timetable') && <p className="text-clay text-sm">{wrong('timetable')}</p>}
            {when !== 'never' && (
              <TextField
                label="At"
                type="time"
                value={at}
                onChange={(e) => setAt(e.target.value)}
                error={wrong('timetable.at')}
              />
            )}
            <TextArea
              label="To, an address a line"
              rows={4}
              value={to}
              onChange={(e) => setTo(e.target.value)}
              error={wrong('to') ?? wrong('to[0]') ?? wrong('to[1]')}
            />
            <Choice
              label="Attached"
              value={files}
              onChange={setFiles}
              options={[
                ['pdf', 'A PDF'],
                ['csv', 'A table (CSV)'],
                ['pdf,csv', 'Both'],
              ]}
            />
          </div>
        </div>
      )}
    </SaveDialog>
  )
}
