import { useQuery } from '@tanstack/react-query'
import { useBlocker } from '@tanstack/react-router'
import { lazy, Suspense, useMemo, useState } from 'react'
import { ApiProblem } from '../api/client'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { count } from '../ui/format'
import { Loading, ProblemNotice } from '../ui/Notice'
import { CatchPanel } from './CatchPanel'
import type { Pasted } from './editor/ListEditor'
import { type EntryFilter, findingsOptions, type List, textOptions, useRewrite, useRewritePage } from './listQueries'

const ListEditor = lazy(() => import('./editor/ListEditor').then((module) => ({ default: module.ListEditor })))

/** The most lines that are edited as one text; a longer list is edited one part at a time. */
export const mostLines = 10_000

type Props = { list: List; filter: EntryFilter }

/** A list as text. Of a long list it shows the lines that match the filter. */
export function TextView({ list, filter }: Props) {
  const whole = list.entryCount + list.noteCount <= mostLines
  const text = useQuery(textOptions(list, whole ? undefined : filter))
  if (text.isPending) return <Loading what="the text" />
  if (text.error) return <ProblemNotice error={text.error} retry={() => text.refetch()} />
  return <Editing key={text.data.text} list={list} opened={text.data} whole={whole} />
}

type Opened = { text: string; ids: number[]; total: number }

function Editing({ list, opened, whole }: { list: List; opened: Opened; whole: boolean }) {
  const [now, setNow] = useState(opened.text)
  const [generation, setGeneration] = useState(0) // a new number makes a new editor, with the text as opened
  const [line, setLine] = useState('')
  const [pasted, setPasted] = useState<Pasted | null>(null)
  const findings = useQuery({ ...findingsOptions(list.id, list.version), enabled: whole })
  const announce = useAnnounce()
  const rewrite = useRewrite(list)
  const rewritePage = useRewritePage(list)
  const saving = whole ? rewrite : rewritePage
  const change = useMemo(() => difference(opened.text, now), [opened.text, now])
  const dirty = change.added.length > 0 || change.removed.length > 0 || (whole && strip(now) !== strip(opened.text))
  useBlocker({
    shouldBlockFn: ({ current, next }) =>
      current.pathname !== next.pathname &&
      dirty &&
      !window.confirm('The text has changes that are not saved. Leave them?'),
    enableBeforeUnload: () => dirty,
  })
  const save = () => {
    const done = () => announce(`Saved ${list.name}: ${told(change)}.`)
    if (whole) afterwards(rewrite.mutateAsync(now.split('\n')), done)
    else {
      const lines = opened.text.split('\n')
      const gone = new Set(change.removed)
      const page = { ids: opened.ids.filter((_, i) => gone.has(lines[i] ?? '')), lines: change.added }
      afterwards(rewritePage.mutateAsync(page), done)
    }
  }
  return (
    <div className="flex min-h-0 grow flex-col gap-2 pb-3">
      {!whole && (
        <p className="text-sm text-soft">
          The list is too long for one text: here are {count(opened.ids.length, 'line', 'lines')} of{' '}
          {count(opened.total, 'line', 'lines')}. The filter chooses others. Lines that you add or change come to its
          end.
        </p>
      )}
      <div className="flex min-h-0 grow">
        <Suspense fallback={<Loading what="the editor" />}>
          <ListEditor
            key={generation}
            label={`Text of ${list.name}`}
            text={opened.text}
            findings={findings.data?.findings ?? []}
            onChange={setNow}
            onLine={setLine}
            onPasted={setPasted}
          />
        </Suspense>
        <CatchPanel line={line} />
      </div>
      {pasted && <PastedNotice pasted={pasted} onClose={() => setPasted(null)} />}
      {saving.error && <ProblemNotice error={whichLine(saving.error)} />}
      <div className="flex shrink-0 items-center gap-2 text-sm">
        <span className="grow text-soft" role="status">
          {dirty ? `Not saved: ${told(change)}.` : 'Saved.'} Ctrl-F searches, Ctrl-Z undoes.
        </span>
        <Button
          does="rewriteList"
          disabled={!dirty || saving.isPending}
          onClick={() => {
            setNow(opened.text)
            setGeneration(generation + 1)
          }}
        >
          Discard the changes
        </Button>
        <Button look="main" does="rewriteList" disabled={!dirty || saving.isPending} onClick={save}>
          {saving.isPending ? 'Saving…' : 'Save'}
        </Button>
      </div>
    </div>
  )
}

/** The lines of a text without blank ones. */
const strip = (text: string) =>
  text
    .split('\n')
    .map((line) => line.trim())
    .filter((line) => line !== '')
    .join('\n')

/** The lines that only one of two texts has. */
function difference(before: string, after: string) {
  const left = new Map<string, number>()
  for (const line of before.split('\n')) if (line.trim() !== '') left.set(line, (left.get(line) ?? 0) + 1)
  const added: string[] = []
  for (const line of after.split('\n')) {
    const n = left.get(line) ?? 0
    if (n > 0) left.set(line, n - 1)
    else if (line.trim() !== '') added.push(line)
  }
  const removed = [...left].flatMap(([line, n]) => Array<string>(n).fill(line))
  return { added, removed }
}

const told = ({ added, removed }: { added: string[]; removed: string[] }) =>
  added.length + removed.length === 0
    ? 'another order'
    : `${count(added.length, 'line', 'lines')} new, ${removed.length} taken out`

/** The message for a line that the service refused. */
function whichLine(error: Error) {
  if (!(error instanceof ApiProblem)) return error
  for (const [field, message] of error.fields) {
    const at = /^lines\[(\d+)\]$/.exec(field)
    if (at) return new Error(`Nothing was saved. Line ${Number(at[1]) + 1}: ${message}`)
  }
  return error
}

function PastedNotice({ pasted, onClose }: { pasted: Pasted; onClose: () => void }) {
  return (
    <section aria-label="What was pasted" className="border-ochre border-l-3 bg-ochre-wash px-3 py-2 text-sm">
      <div className="flex items-center gap-2">
        <p className="grow">
          Pasted {count(pasted.lines, 'line', 'lines')}
          {pasted.changed.length === 0
            ? ', as they were.'
            : `; ${pasted.changed.length} read differently than written:`}
        </p>
        {pasted.changed.length > 0 && (
          <Button
            onClick={() => {
              pasted.undo()
              onClose()
            }}
          >
            Keep it as it was
          </Button>
        )}
        <Button onClick={onClose}>Good</Button>
      </div>
      <ul className="max-h-28 overflow-y-auto">
        {pasted.changed.slice(0, 50).map((line) => (
          <li key={line.text}>
            <span className="mono">{line.text}</span> ⇒ <span className="mono">{line.entries.join(', ')}</span>{' '}
            <span className="text-soft">{line.changes.join('; ')}</span>
          </li>
        ))}
      </ul>
    </section>
  )
}
