import { useQueryClient } from '@tanstack/react-query'
import { useNavigate } from '@tanstack/react-router'
import { type FormEvent, useEffect, useRef, useState } from 'react'
import type { Ask } from '../address/trialSearch'
import { WhoField } from '../people/WhoField'
import { Button } from '../ui/Button'
import { fieldClass } from '../ui/Field'

/** A form on every page that tries a URL for somebody at some moment. The key "/" moves the focus to it, except from a field. */
export function TryBar({ url, ask }: { url: string; ask: Ask }) {
  const [text, setText] = useState(url)
  const [as, setAs] = useState(ask.as ?? '')
  const [at, setAt] = useState(ask.at ?? '')
  const field = useRef<HTMLInputElement>(null)
  const navigate = useNavigate()
  const client = useQueryClient()
  useEffect(() => setText(url), [url])
  useEffect(() => setAs(ask.as ?? ''), [ask.as])
  useEffect(() => setAt(ask.at ?? ''), [ask.at])
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const typing = (event.target as HTMLElement).closest('input, textarea, select, [role="dialog"]')
      if (event.key === '/' && !typing && !event.ctrlKey && !event.metaKey) {
        event.preventDefault()
        field.current?.select()
      }
    }
    document.addEventListener('keydown', onKey)
    return () => document.removeEventListener('keydown', onKey)
  }, [])
  const submit = (event: FormEvent) => {
    event.preventDefault()
    void navigate({
      to: '.',
      search: (before) => ({
        ...before,
        url: text.trim() || undefined,
        as: as.trim() || undefined,
        at: at.trim() || undefined,
      }),
    })
    void client.invalidateQueries({ queryKey: ['trials'] })
  }
  return (
    <search aria-label="Try a URL" className="border-rule border-b px-5">
      <form onSubmit={submit} className="flex h-full items-center gap-2">
        <label htmlFor="try-url" className="whitespace-nowrap font-semibold text-sm text-soft">
          Try a URL
        </label>
        <input
          id="try-url"
          ref={field}
          value={text}
          onChange={(e) => setText(e.target.value)}
          placeholder="oddsfield.example/today"
          aria-keyshortcuts="/"
          spellCheck={false}
          autoCapitalize="none"
          autoComplete="off"
          className={`${fieldClass} mono h-8 w-full min-w-40 max-w-xl`}
        />
        <span className="text-sm text-soft">as</span>
        <WhoField label="Who asks" value={as} onChange={setAs} className="h-8 w-44" />
        <span className="text-sm text-soft">at</span>
        <input
          aria-label="When"
          value={at}
          onChange={(e) => setAt(e.target.value)}
          placeholder="now"
          list="moments"
          autoComplete="off"
          className={`${fieldClass} h-8 w-28`}
        />
        <datalist id="moments">
          <option value="now" />
          <option value="12:30" />
          <option value="sat 02:00" />
          <option value="tue 12:30" />
        </datalist>
        <Button type="submit" look="main">
          Try
        </Button>
        <span className="hidden whitespace-nowrap text-sm text-soft xl:inline">
          <kbd className="rounded-sm border border-rule px-1 font-mono text-xs">/</kbd> from anywhere
        </span>
      </form>
    </search>
  )
}
