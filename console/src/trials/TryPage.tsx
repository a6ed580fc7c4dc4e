import { Link } from '@tanstack/react-router'
import { type FormEvent, useState } from 'react'
import { Button } from '../ui/Button'
import { TextArea } from '../ui/Field'
import { count, formatNumber } from '../ui/format'
import { Mono } from '../ui/Mono'
import { EmptyNotice, ProblemNotice } from '../ui/Notice'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { NoVerdict, VerdictMark } from '../ui/VerdictMark'
import { type Trial, useTryMany } from './trialQueries'

/** How many URLs one call takes. */
const most = 10_000

const sample = `oddsfield.example/today
https://help.oddsfield.example/
dosage-tables.example
gull-video.co.uk/watch?v=1
pebble-poker.example
tidepool-news.example/sport/odds/today`

/** Many URLs at once. The try bar is for one. */
export function TryPage() {
  const [text, setText] = useState('')
  const tryMany = useTryMany()
  const urls = text
    .split('\n')
    .map((line) => line.trim())
    .filter((line) => line !== '' && !line.startsWith('#'))
  const submit = (event: FormEvent) => {
    event.preventDefault()
    tryMany.mutate(urls)
  }
  return (
    <div className="flex h-full flex-col gap-4 overflow-y-auto px-5 py-4">
      <div>
        <h1 className="font-semibold text-xl">Try</h1>
        <p className="text-soft">What happens to these URLs under the draft, and which entry, list and rule decides.</p>
      </div>
      <form onSubmit={submit} className="flex flex-col gap-2">
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
        <div className="flex items-center gap-2">
          <Button type="submit" look="main" disabled={urls.length === 0 || urls.length > most || tryMany.isPending}>
            {tryMany.isPending ? 'Trying…' : urls.length > 0 ? `Try ${count(urls.length, 'URL', 'URLs')}` : 'Try them'}
          </Button>
          {text === '' && (
            <Button look="quiet" onClick={() => setText(sample)}>
              Fill in some to see how it works
            </Button>
          )}
        </div>
      </form>
      {tryMany.error && <ProblemNotice error={tryMany.error} />}
      {tryMany.data ? (
        <Results trials={tryMany.data.trials} who={`for ${tryMany.data.group} under ${tryMany.data.policy}`} />
      ) : (
        <EmptyNotice title="Nothing tried yet">
          Paste addresses from a complaint, a log or a browser’s history. For a single one, the bar above does it from
          any page; press <kbd className="font-mono text-xs">/</kbd> to get there.
        </EmptyNotice>
      )}
    </div>
  )
}

/** The rows that are shown; more are counted, and the command line gives them all. */
const shownRows = 1000

function Results({ trials, who }: { trials: Trial[]; who: string }) {
  const allowed = trials.filter((t) => t.verdict === 'allow').length
  const blocked = trials.filter((t) => t.verdict === 'block').length
  const noURL = trials.length - allowed - blocked
  return (
    <section aria-label="Answers">
      <p className="pb-2" role="status">
        {formatNumber(allowed)} allowed, {formatNumber(blocked)} blocked
        {noURL > 0 && `, ${formatNumber(noURL)} no URL`} <span className="text-soft">{who}</span>
        {trials.length > shownRows && (
          <span className="text-soft">; the first {formatNumber(shownRows)} are shown</span>
        )}
      </p>
      <table className="w-full border-collapse" onKeyDown={onRowKeys}>
        <thead>
          <tr>
            <Head className="w-24">Verdict</Head>
            <Head>URL</Head>
            <Head>Entry</Head>
            <Head>List or category</Head>
            <Head>Rule</Head>
          </tr>
        </thead>
        <tbody>
          {trials.slice(0, shownRows).map((t, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: a URL may stand in it twice
            <tr key={i} className="hover:bg-wash">
              <td className={cellClass}>
                {t.verdict ? <VerdictMark verdict={t.verdict} /> : <NoVerdict>no URL</NoVerdict>}
              </td>
              <td className={cellClass}>
                <Link
                  to="."
                  search={(before) => ({ ...before, url: t.url ?? t.input })}
                  className="underline decoration-rule underline-offset-2 hover:decoration-ink"
                >
                  <Mono>{t.url ?? t.input}</Mono>
                </Link>
                {t.problem && <p className="text-sm text-soft">{t.problem}</p>}
              </td>
              <td className={cellClass}>{t.decider?.entry && <Mono>{t.decider.entry.pattern}</Mono>}</td>
              <td className={cellClass}>{t.decider?.list?.name ?? t.decider?.category?.name}</td>
              <td className={cellClass}>
                {t.decider?.rule ?? (t.verdict && <span className="text-soft">otherwise</span>)}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  )
}
