import { useQueryClient } from '@tanstack/react-query'
import { useNavigate } from '@tanstack/react-router'
import { type FormEvent, useEffect, useRef, useState } from 'react'
import { Button } from '../ui/Button'
import { fieldClass } from '../ui/Field'

/** A URL, tried from wherever one is. "/" goes to it from everywhere but a field. */
export function TryBar({ url }: { url: string }) {
  const [text, setText] = useState(url)
  const field = useRef<HTMLInputElement>(null)
  const navigate = useNavigate()
  const client = useQueryClient()
  useEffect(() => setText(url), [url])
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
    const wanted = text.trim()
    void navigate({ to: '.', search: (before) => ({ ...before, url: wanted || undefined }) })
    void client.invalidateQueries({ queryKey: ['trials'] })
  }
  return (
    <search aria-label="Try a URL" className="border-rule border-b px-5">
      <form onSubmit={submit} className="flex h-full items-center gap-2">
        <label htmlFor="try-url" className="font-semibold text-sm text-soft">
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
          className={`${fieldClass} mono h-8 w-full max-w-2xl`}
        />
        <Button type="submit" look="main">
          Try
        </Button>
        <span className="hidden text-sm text-soft lg:inline">
          <kbd className="rounded-sm border border-rule px-1 font-mono text-xs">/</kbd> from anywhere
        </span>
      </form>
    </search>
  )
}
