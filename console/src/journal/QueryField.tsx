import { useQuery } from '@tanstack/react-query'
import { clsx } from 'clsx'
import { useId, useRef, useState } from 'react'
import { ApiProblem } from '../api/client'
import { Button } from '../ui/Button'
import { useSettled } from '../ui/useSettled'
import { completionOptions } from './journalQueries'

type Props = {
  query: string
  onSearch: (query: string) => void
  error?: Error | null
  placeholder?: string
}

/** The field for a query, with completions of fields and values. Enter searches, or takes the completion that is chosen. */
export function QueryField({
  query,
  onSearch,
  error,
  placeholder = 'verdict:block group:"Ward nurses" since:2h',
}: Props) {
  const [text, setText] = useState(query)
  const [from, setFrom] = useState(query)
  const [cursor, setCursor] = useState(query.length)
  const [open, setOpen] = useState(false)
  const [chosen, setChosen] = useState(-1)
  const field = useRef<HTMLInputElement>(null)
  const id = useId()
  if (from !== query) {
    setFrom(query)
    setText(query)
  }
  const settled = useSettled({ text, cursor })
  const found = useQuery({ ...completionOptions(settled.text, settled.cursor), enabled: open })
  const choices = open && found.data ? found.data.choices : []
  const search = (q: string) => {
    setOpen(false)
    onSearch(q.trim())
  }
  const take = (i: number) => {
    const choice = choices[i]
    if (!choice || !found.data) return
    const letters = [...text]
    const head = letters.slice(0, found.data.from).join('') + choice.text
    const end = choice.text.endsWith(':') ? '' : ' '
    setText(head + end + letters.slice(found.data.to).join('').trimStart())
    setCursor([...head].length + end.length)
    setChosen(-1)
    setOpen(end === '')
    requestAnimationFrame(() => {
      field.current?.focus()
      field.current?.setSelectionRange(head.length + end.length, head.length + end.length)
    })
  }
  const onKeyDown = (event: React.KeyboardEvent) => {
    if (event.key === 'ArrowDown' || event.key === 'ArrowUp') {
      event.preventDefault()
      setOpen(true)
      if (choices.length > 0) {
        const step = event.key === 'ArrowDown' ? 1 : -1
        setChosen((at) => (at + step + choices.length + (at < 0 && step < 0 ? 1 : 0)) % choices.length)
      }
    } else if (event.key === 'Escape' && open) {
      event.preventDefault()
      setOpen(false)
      setChosen(-1)
    } else if (event.key === 'Enter') {
      event.preventDefault()
      if (open && chosen >= 0) take(chosen)
      else search(text)
    } else if (event.key === 'Tab' && open && chosen >= 0) {
      event.preventDefault()
      take(chosen)
    }
  }
  const problem = error instanceof ApiProblem ? error.fields.get('q') : undefined
  const fix = error instanceof ApiProblem ? error.fixes.get('q') : undefined
  return (
    <div className="relative grow">
      <div className="flex gap-2">
        <input
          ref={field}
          role="combobox"
          aria-label="Query"
          aria-expanded={choices.length > 0}
          aria-controls={`${id}-choices`}
          aria-autocomplete="list"
          aria-activedescendant={chosen >= 0 ? `${id}-${chosen}` : undefined}
          aria-invalid={problem !== undefined}
          aria-describedby={problem ? `${id}-problem` : undefined}
          placeholder={placeholder}
          autoComplete="off"
          spellCheck={false}
          value={text}
          onChange={(e) => {
            setText(e.target.value)
            setCursor([...e.target.value.slice(0, e.target.selectionStart ?? undefined)].length)
            setOpen(true)
            setChosen(-1)
          }}
          onKeyDown={onKeyDown}
          onBlur={() => setOpen(false)}
          className={clsx('mono h-9 w-full rounded-sm border bg-leaf px-3', problem ? 'border-clay' : 'border-edge')}
        />
        <Button look="main" className="h-9" onClick={() => search(text)}>
          Search
        </Button>
      </div>
      {problem && (
        <p id={`${id}-problem`} role="alert" className="flex items-center gap-2 pt-1 text-clay text-sm">
          {problem}
          {fix && (
            <Button onClick={() => search(fix)}>
              Search <span className="mono">{fix}</span>
            </Button>
          )}
        </p>
      )}
      <div
        id={`${id}-choices`}
        role="listbox"
        aria-label="Completions"
        hidden={choices.length === 0}
        className="absolute top-10 z-20 max-h-72 w-[34rem] overflow-y-auto rounded-sm border border-edge bg-leaf py-1 shadow-sm"
      >
        {choices.map((choice, i) => (
          // biome-ignore lint/a11y/useKeyWithClickEvents: the field has the keys
          <div
            key={choice.text}
            id={`${id}-${i}`}
            role="option"
            tabIndex={-1}
            aria-selected={i === chosen}
            onMouseDown={(e) => e.preventDefault()}
            onClick={() => take(i)}
            className={clsx('flex cursor-pointer gap-4 px-3 py-0.5', i === chosen && 'bg-wash')}
          >
            <span className="mono w-44 shrink-0">{choice.text}</span>
            <span className="truncate text-soft text-sm">{choice.about}</span>
          </div>
        ))}
      </div>
    </div>
  )
}
