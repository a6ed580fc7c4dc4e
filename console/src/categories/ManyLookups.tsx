import { useState } from 'react'
import { Button } from '../ui/Button'
import { TextArea } from '../ui/Field'
import { count, formatNumber } from '../ui/format'
import { Mono } from '../ui/Mono'
import { ProblemNotice } from '../ui/Notice'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { CategoryNames } from './CategoryNames'
import { useLookupMany } from './categoryQueries'
import { LookupLink } from './LookupLink'

/** The most URLs of one call, and the most rows that are shown. */
const most = 10_000

const shownRows = 1000

export function ManyForm({ onOne }: { onOne: () => void }) {
  const [text, setText] = useState('')
  const look = useLookupMany()
  const urls = text
    .split('\n')
    .map((line) => line.trim())
    .filter((line) => line !== '' && !line.startsWith('#'))
  return (
    <>
      <form
        className="flex flex-col gap-2"
        onSubmit={(event) => {
          event.preventDefault()
          look.mutate(urls)
        }}
      >
        <TextArea
          label="URLs, one a line"
          rows={6}
          spellCheck={false}
          value={text}
          onChange={(e) => setText(e.target.value)}
          error={
            urls.length > most ? `at most ${formatNumber(most)} at once; the command line takes any number` : undefined
          }
        />
        <div className="flex gap-2">
          <Button type="submit" look="main" disabled={urls.length === 0 || urls.length > most || look.isPending}>
            {urls.length > 0 ? `Look up ${count(urls.length, 'URL', 'URLs')}` : 'Look them up'}
          </Button>
          <Button look="quiet" onClick={onOne}>
            One only
          </Button>
        </div>
      </form>
      {look.error && <ProblemNotice error={look.error} />}
      {look.data && (
        <table className="w-full border-collapse" onKeyDown={onRowKeys}>
          <thead>
            <tr>
              <Head>URL</Head>
              <Head>Is</Head>
              <Head>Says who</Head>
              <Head>Entry</Head>
            </tr>
          </thead>
          <tbody>
            {look.data.lookups.slice(0, shownRows).map((l, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: a URL may stand in it twice
              <tr key={i} className="hover:bg-wash">
                <td className={cellClass}>
                  <LookupLink url={l.url ?? l.input} />
                  {l.problem && <p className="text-sm text-soft">{l.problem}</p>}
                </td>
                <td className={cellClass}>{l.class && <CategoryNames categories={l.class.categories} />}</td>
                <td className={cellClass}>{l.class?.by}</td>
                <td className={cellClass}>{l.class?.given[0] && <Mono>{l.class.given[0].entry.pattern}</Mono>}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  )
}
