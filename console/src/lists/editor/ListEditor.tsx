import { autocompletion, type CompletionContext } from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap, undo } from '@codemirror/commands'
import { type Diagnostic, forceLinting, linter, lintGutter, lintKeymap } from '@codemirror/lint'
import { highlightSelectionMatches, search, searchKeymap } from '@codemirror/search'
import { EditorState, StateEffect } from '@codemirror/state'
import {
  drawSelection,
  EditorView,
  highlightActiveLine,
  highlightActiveLineGutter,
  hoverTooltip,
  keymap,
  lineNumbers,
} from '@codemirror/view'
import { useEffect, useRef } from 'react'
import { api, data, type Schemas } from '../../api/client'
import { Explanations, explain } from './explanations'
import { notation } from './notation'

/** The result of a paste: the lines that were read differently than pasted. */
export type Pasted = {
  lines: number
  changed: { text: string; entries: string[]; changes: string[] }[]
  undo: () => void
}

type Props = {
  label: string
  /** The first text of the editor; a new text makes a new editor. */
  text: string
  findings: Schemas['Finding'][]
  onChange: (text: string) => void
  /** The line that holds the caret. */
  onLine: (line: string) => void
  onPasted: (pasted: Pasted) => void
}

/** A text editor for the notation. The service explains the lines in view and those that change. */
export function ListEditor({ label, text, findings, onChange, onLine, onPasted }: Props) {
  const box = useRef<HTMLDivElement>(null)
  const view = useRef<EditorView>(null)
  const latest = useRef({ findings, onChange, onLine, onPasted })
  latest.current = { findings, onChange, onLine, onPasted }
  useEffect(() => {
    if (!box.current) return
    const known = new Explanations()
    const opened = new Set(text.split('\n').map((line) => line.trim()))
    const editor = new EditorView({
      parent: box.current,
      state: EditorState.create({
        doc: text,
        extensions: [
          lineNumbers(),
          highlightActiveLineGutter(),
          highlightActiveLine(),
          history(),
          drawSelection(),
          search(),
          highlightSelectionMatches(),
          notation,
          lintGutter(),
          linter((at) => diagnose(at, known, opened, () => latest.current.findings), {
            delay: 250,
            needsRefresh: (update) => update.transactions.some((t) => t.effects.some((e) => e.is(otherFindings))),
          }),
          hoverTooltip((at, pos) => tooltip(at, pos, known)),
          autocompletion({ override: [complete] }),
          keymap.of([...defaultKeymap, ...historyKeymap, ...searchKeymap, ...lintKeymap]),
          EditorView.contentAttributes.of({ 'aria-label': label, spellcheck: 'false', autocapitalize: 'none' }),
          EditorView.domEventHandlers({
            paste: (event, at) => paste(event, at, (pasted) => latest.current.onPasted(pasted)),
          }),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) latest.current.onChange(update.state.doc.toString())
            if (update.docChanged || update.selectionSet) {
              latest.current.onLine(update.state.doc.lineAt(update.state.selection.main.head).text)
            }
          }),
          look,
        ],
      }),
    })
    view.current = editor
    latest.current.onLine(editor.state.doc.line(1).text)
    return () => editor.destroy()
  }, [text, label])
  // biome-ignore lint/correctness/useExhaustiveDependencies: findings are drawn by the linter, which has to look again
  useEffect(() => {
    if (!view.current) return
    view.current.dispatch({ effects: otherFindings.of(null) })
    forceLinting(view.current)
  }, [findings])
  return (
    <div
      ref={box}
      className="min-h-0 min-w-0 grow overflow-hidden border border-edge focus-within:outline-2 focus-within:outline-reed"
    />
  )
}

/** Tells the linter that there are other findings than those that it drew. */
const otherFindings = StateEffect.define<null>()

/** The lines to be explained: those in view, and those that the text did not have when it was opened. */
function linesToKnow(view: EditorView, opened: Set<string>) {
  const lines = new Set<string>()
  for (const { from, to } of view.visibleRanges) {
    for (let at = from; at <= to; ) {
      const line = view.state.doc.lineAt(at)
      lines.add(line.text)
      at = line.to + 1
    }
  }
  for (const line of view.state.doc.iterLines()) if (!opened.has(line.trim())) lines.add(line)
  return lines
}

async function diagnose(
  view: EditorView,
  known: Explanations,
  opened: Set<string>,
  findings: () => Schemas['Finding'][], // they may come while the lines are explained
) {
  try {
    await known.fetch(linesToKnow(view, opened))
  } catch {
    return [] // without the service there are no explanations; saving shows the error
  }
  const byEntry = new Map<string, Schemas['Finding'][]>()
  for (const finding of findings()) {
    byEntry.set(finding.entry.text, [...(byEntry.get(finding.entry.text) ?? []), finding])
  }
  const found: Diagnostic[] = []
  for (let n = 1; n <= view.state.doc.lines; n++) {
    const line = view.state.doc.line(n)
    const e = known.get(line.text)
    if (e?.problem) {
      const begin = Math.min(line.from + leading(line.text) + e.problem.column - 1, line.to)
      const { suggestion } = e.problem
      found.push({
        from: begin,
        to: Math.min(Math.max(begin + [...e.problem.found].length, begin + 1), line.to),
        severity: 'error',
        message: e.problem.message,
        actions: suggestion ? [put(`Use ${suggestion}`, suggestion)] : [],
      })
    }
    for (const miss of e?.nearMisses ?? []) {
      found.push({
        from: line.from,
        to: line.to,
        severity: 'warning',
        message: `Also covers ${miss.url} — ${miss.why}`,
        actions: miss.tighter ? [put(`Use ${miss.tighter}`, miss.tighter)] : [],
      })
    }
    if (e?.costly) {
      found.push({
        from: line.from,
        to: line.to,
        severity: 'info',
        message: 'Costly: it names nothing that a URL would have to hold, so it is tried on every one.',
      })
    }
    for (const finding of byEntry.get(line.text.trim()) ?? []) {
      found.push({
        from: line.from,
        to: line.to,
        severity: 'info',
        message: finding.message,
        actions: [{ name: 'Take the line out', apply: (at) => removeLine(at, line.from) }],
      })
    }
  }
  return found
}

const leading = (text: string) => text.length - text.trimStart().length

/** Replaces the pattern of a line, and keeps the note. */
const put = (name: string, pattern: string) => ({
  name,
  apply: (view: EditorView, from: number) => {
    const line = view.state.doc.lineAt(from)
    const note = /\s(#.*)$/.exec(line.text)?.[1]
    const insert = note && !pattern.includes('#') ? `${pattern} ${note}` : pattern
    view.dispatch({ changes: { from: line.from, to: line.to, insert } })
  },
})

function removeLine(view: EditorView, at: number) {
  const line = view.state.doc.lineAt(at)
  const { doc } = view.state
  const from = line.to === doc.length && line.number > 1 ? line.from - 1 : line.from
  view.dispatch({ changes: { from, to: Math.min(line.to + (from === line.from ? 1 : 0), doc.length) } })
}

async function tooltip(view: EditorView, pos: number, known: Explanations) {
  const line = view.state.doc.lineAt(pos)
  await known.fetch([line.text]).catch(() => false)
  const e = known.get(line.text)
  if (!e?.explain) return null
  return {
    pos: line.from,
    above: true,
    create: () => {
      const dom = document.createElement('div')
      dom.className = 'cm-explain'
      dom.textContent = e.explain ?? ''
      return { dom }
    },
  }
}

/** The completions at the caret: hosts of recorded requests, and the words of the notation. */
async function complete(context: CompletionContext) {
  const attribute = context.matchBefore(/\[\w*/)
  if (attribute) {
    const day = new Date(Date.now() + 30 * 864e5).toISOString().slice(0, 10)
    return {
      from: attribute.from,
      options: [
        { label: '[off]', detail: 'kept, but not in force' },
        { label: `[until ${day}]`, detail: 'its last day' },
      ],
    }
  }
  const tilde = context.matchBefore(/^!?\s*~\w*/)
  if (tilde) {
    return {
      from: tilde.to - (/~\w*$/.exec(tilde.text)?.[0].length ?? 0),
      options: [
        { label: '~host ', detail: 'an expression on the host' },
        { label: '~path ', detail: 'on path and query' },
        { label: '~ ', detail: 'on the whole URL' },
      ],
    }
  }
  const host = context.matchBefore(/[\p{L}\d.-]{2,}/u)
  const before =
    host && context.state.doc.lineAt(host.from).text.slice(0, host.from - context.state.doc.lineAt(host.from).from)
  if (!host || before === null || !/^!?\s*(=|\*\.|https?:\/\/)?$/.test(before)) return null
  try {
    const seen = await data(api.GET('/api/v1/seen', { params: { query: { text: host.text, limit: 20 } } }))
    return {
      from: host.from,
      options: seen.hosts.map((h) => ({ label: h.host, detail: `seen ${h.requests.toLocaleString('en-GB')} times` })),
      validFor: /^[\p{L}\d.-]*$/u,
    }
  } catch {
    return null
  }
}

/** Turns pasted text into the entries that it means, and shows the changes. */
function paste(event: ClipboardEvent, view: EditorView, tell: (pasted: Pasted) => void) {
  const text = event.clipboardData?.getData('text/plain') ?? ''
  const lines = text.split(/\r\n|\r|\n/)
  const { main } = view.state.selection
  const wholeLine = view.state.doc.lineAt(main.from).from === main.from
  if (text.trim() === '' || lines.length > 2000 || (lines.length === 1 && !wholeLine)) return false
  event.preventDefault()
  const insert = (lines: string[]) => {
    const { from, to } = view.state.selection.main
    const inserted = lines.join('\n')
    view.dispatch({
      changes: { from, to, insert: inserted },
      selection: { anchor: from + inserted.length },
      userEvent: 'input.paste',
    })
    view.focus()
  }
  explain(lines, 'mending').then(
    (explained) => {
      insert(explained.flatMap((e) => (e.problem || e.entries.length === 0 ? [e.text] : e.entries)))
      tell({
        lines: lines.filter((line) => line.trim() !== '').length,
        changed: explained
          .filter((e) => (e.changes?.length ?? 0) > 0)
          .map((e) => ({ text: e.text.trim(), entries: e.entries, changes: e.changes ?? [] })),
        undo: () => {
          undo(view)
          insert(lines)
        },
      })
    },
    () => insert(lines),
  )
  return true
}

const look = EditorView.theme({
  '&': { height: '100%', backgroundColor: 'var(--leaf)', color: 'var(--ink)' },
  '&.cm-focused': { outline: 'none' },
  '.cm-scroller': { fontFamily: 'var(--font-mono)', fontSize: '0.875rem', lineHeight: '1.6' },
  '.cm-gutters': { backgroundColor: 'var(--wash)', color: 'var(--soft)', borderRight: '1px solid var(--rule)' },
  '.cm-activeLine': { backgroundColor: 'color-mix(in srgb, var(--reed-wash) 45%, transparent)' },
  '.cm-activeLineGutter': { backgroundColor: 'var(--reed-wash)', color: 'var(--ink)' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': { backgroundColor: 'var(--ochre-wash) !important' },
  '.cm-selectionMatch': { backgroundColor: 'var(--ochre-wash)' },
  '.cm-tooltip': {
    backgroundColor: 'var(--leaf)',
    color: 'var(--ink)',
    border: '1px solid var(--edge)',
    fontFamily: 'var(--font-sans)',
    maxWidth: '34rem',
  },
  '.cm-tooltip .cm-explain': { padding: '6px 10px' },
  '.cm-tooltip-autocomplete > ul > li[aria-selected]': { backgroundColor: 'var(--reed)', color: 'var(--on-reed)' },
  '.cm-completionDetail': { color: 'inherit', opacity: '0.8' },
  '.cm-lint-marker': {
    content: 'normal !important',
    width: '10px',
    height: '10px',
    margin: '6px 2px',
    boxSizing: 'border-box',
  },
  '.cm-lint-marker-error': { backgroundColor: 'var(--clay)' },
  '.cm-lint-marker-warning': { border: '2.5px solid var(--ochre)', transform: 'rotate(45deg) scale(0.85)' },
  '.cm-lint-marker-info': { border: '2.5px solid var(--edge)', borderRadius: '50%' },
  '.cm-diagnostic': { fontFamily: 'var(--font-sans)', padding: '4px 10px' },
  '.cm-diagnostic-error': { borderLeftColor: 'var(--clay)' },
  '.cm-diagnostic-warning': { borderLeftColor: 'var(--ochre)' },
  '.cm-diagnostic-info': { borderLeftColor: 'var(--edge)' },
  '.cm-diagnosticAction': {
    backgroundColor: 'var(--reed)',
    color: 'var(--on-reed)',
    borderRadius: '3px',
    fontFamily: 'var(--font-mono)',
    padding: '1px 8px',
  },
  '.cm-panels': { backgroundColor: 'var(--wash)', color: 'var(--ink)' },
  '.cm-panels input, .cm-panels button': {
    fontFamily: 'var(--font-sans)',
    backgroundImage: 'none',
    backgroundColor: 'var(--leaf)',
    color: 'var(--ink)',
    border: '1px solid var(--edge)',
  },
})
