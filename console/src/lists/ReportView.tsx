import { Button } from '../ui/Button'
import { formatNumber } from '../ui/format'
import { Mono } from '../ui/Mono'
import type { Report } from './listQueries'

/** The outcomes of the lines in one sentence. */
export function ReportCounts({ report }: { report: Report }) {
  return (
    <span className="text-sm" role="status">
      {formatNumber(report.lines)} lines: {formatNumber(report.good)} good, {formatNumber(report.changed)} changed,{' '}
      <span className={report.refused > 0 ? 'font-semibold text-clay' : undefined}>
        {formatNumber(report.refused)} refused
      </span>
      , {formatNumber(report.notes)} notes, {formatNumber(report.blank)} blank
      <br />
      <span className="text-soft">
        {formatNumber(report.added)} new, {formatNumber(report.updated)} updated, {formatNumber(report.same)} there
        already
        {report.removed > 0 && (
          <span className="font-semibold text-clay">, {formatNumber(report.removed)} taken out</span>
        )}
      </span>
    </span>
  )
}

/** The most lines of an outcome that are shown; the command line shows all. */
const most = 100

type LinesProps = {
  report: Report
  /** Replaces a refused line by the suggestion; undefined if the lines cannot be edited. */
  onMend?: (line: number, text: string) => void
}

/** The refused lines with their errors, and the changed lines with the entries that they gave. */
export function ReportLines({ report, onMend }: LinesProps) {
  return (
    <>
      {report.refused > 0 && (
        <section aria-label="Refused lines" className="flex flex-col gap-1">
          <h3 className="font-semibold text-clay text-sm">Refused</h3>
          <ul>
            {report.refusedLines.slice(0, most).map((line) => (
              <li key={line.line} className="flex items-start gap-3 border-rule border-t py-1.5">
                <span className="w-20 shrink-0 text-sm text-soft">
                  line {line.line}
                  <br />
                  column {line.column}
                </span>
                <div className="min-w-0 grow">
                  <Pointed text={line.text} column={line.column} length={[...line.found].length} />
                  <p className="text-sm">{line.message}</p>
                </div>
                {onMend && line.suggestion && (
                  <Button onClick={() => onMend(line.line, line.suggestion ?? '')}>Use that</Button>
                )}
              </li>
            ))}
          </ul>
          <Rest shown={Math.min(most, report.refusedLines.length)} of={report.refused} />
        </section>
      )}
      {report.changed > 0 && (
        <section aria-label="Changed lines" className="flex flex-col gap-1">
          <h3 className="font-semibold text-ochre text-sm">Changed</h3>
          <ul>
            {report.changedLines.slice(0, most).map((line) => (
              <li key={line.line} className="flex items-start gap-3 border-rule border-t py-1.5">
                <span className="w-20 shrink-0 text-sm text-soft">line {line.line}</span>
                <div className="min-w-0">
                  <Mono className="text-soft">{line.text.trim()}</Mono>
                  {line.entries.map((entry) => (
                    <p key={entry}>
                      <span aria-hidden>⇒ </span>
                      <span className="sr-only">read as </span>
                      <Mono>{entry}</Mono>
                    </p>
                  ))}
                  <p className="text-sm text-soft">{line.changes.join('; ')}</p>
                </div>
              </li>
            ))}
          </ul>
          <Rest shown={Math.min(most, report.changedLines.length)} of={report.changed} />
        </section>
      )}
    </>
  )
}

function Rest({ shown, of }: { shown: number; of: number }) {
  if (of <= shown) return null
  return <p className="text-sm text-soft">and {formatNumber(of - shown)} more</p>
}

/** A line with its wrong piece underlined. */
function Pointed({ text, column, length }: { text: string; column: number; length: number }) {
  const runes = [...text]
  const before = runes.slice(0, column - 1).join('')
  const piece = runes.slice(column - 1, column - 1 + Math.max(1, length)).join('')
  const after = runes.slice(column - 1 + Math.max(1, length)).join('')
  return (
    <p className="mono break-words">
      {before}
      <span className="bg-clay-wash text-clay underline decoration-2 decoration-clay underline-offset-4">
        {piece || ' '}
      </span>
      {after}
    </p>
  )
}
