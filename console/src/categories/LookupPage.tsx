import { useNavigate, useSearch } from '@tanstack/react-router'
import { type FormEvent, useEffect, useState } from 'react'
import { Button } from '../ui/Button'
import { fieldClass } from '../ui/Field'
import { EmptyNotice } from '../ui/Notice'
import { Answer } from './LookupAnswer'
import { ManyForm } from './ManyLookups'

/** The categories of a URL with their sources and their history; or the categories of many URLs. */
export function LookupPage() {
  const { of = '', many } = useSearch({ from: '/lookup' })
  const navigate = useNavigate({ from: '/lookup' })
  const [text, setText] = useState(of)
  useEffect(() => setText(of), [of])
  const submit = (event: FormEvent) => {
    event.preventDefault()
    void navigate({ search: (before) => ({ ...before, of: text.trim() || undefined, many: undefined }) })
  }
  return (
    <div className="flex h-full flex-col gap-4 overflow-y-auto px-5 py-4">
      <div>
        <h1 className="font-semibold text-xl">Look up</h1>
        <p className="text-soft">What a site is, who says so, and what to do where that is wrong.</p>
      </div>
      {many ? (
        <ManyForm onOne={() => navigate({ search: (before) => ({ ...before, many: undefined }) })} />
      ) : (
        <>
          <form onSubmit={submit} className="flex items-center gap-2">
            <input
              aria-label="URL to look up"
              value={text}
              onChange={(e) => setText(e.target.value)}
              placeholder="marrow-trust.test/breast/screening"
              spellCheck={false}
              autoCapitalize="none"
              autoComplete="off"
              className={`${fieldClass} mono h-9 w-full max-w-2xl`}
            />
            <Button type="submit" look="main" className="h-9!">
              Look up
            </Button>
            <Button look="quiet" onClick={() => navigate({ search: (before) => ({ ...before, many: true }) })}>
              Many at once
            </Button>
          </form>
          {of ? (
            <Answer key={of} url={of} />
          ) : (
            <EmptyNotice
              title="Nothing looked up yet"
              action={
                <Button
                  onClick={() =>
                    navigate({ search: (before) => ({ ...before, of: 'marrow-trust.test/breast/screening' }) })
                  }
                >
                  Show me one
                </Button>
              }
            >
              Give an address, as it stands in a complaint or in the browser. The answer names each category, the entry
              that gave it, its pack and version, and what was said before.
            </EmptyNotice>
          )}
        </>
      )}
    </div>
  )
}
