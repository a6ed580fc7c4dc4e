import { Link, useNavigate, useSearch } from '@tanstack/react-router'
import { type FormEvent, useState } from 'react'
import { WhoField } from '../people/WhoField'
import { Button } from '../ui/Button'
import { formatShort } from '../ui/clock'
import { fieldClass, TextArea } from '../ui/Field'
import { count, formatNumber } from '../ui/format'
import { Mono } from '../ui/Mono'
import { EmptyNotice, ProblemNotice } from '../ui/Notice'
import { Strip } from '../ui/Strip'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { isVerdict, NoVerdict, VerdictMark, verdicts } from '../ui/VerdictMark'
import { ViewButtons } from '../ui/ViewButtons'
import { type Side, type Trial, useCompare, useMatrix, useSweep, useTryMany } from './trialQueries'
import type { TryView } from './views'

/** How many URLs one call takes. */
const most: Record<TryView, number> = { many: 10_000, matrix: 5000, week: 200, compare: 1 }

const sample = `oddsfield.example/today
https://help.oddsfield.example/
dosage-tables.example
harbour-news.example/puzzles
pebble-poker.example
tidepool-news.example/sport/odds/today`

const names: Record<TryView, string> = {
  many: 'Many URLs',
  matrix: 'For every group',
  week: 'Over a week',
  compare: 'Two side by side',
}

/** Many URLs at once, for many who ask, over time, or two trials side by side. The try bar is for one. */
export function TryPage() {
  const { view = 'many' } = useSearch({ from: '/try' })
  const navigate = useNavigate({ from: '/try' })
  const [text, setText] = useState('')
  return (
    <div className="flex h-full flex-col gap-4 overflow-y-auto px-5 py-4">
      <div>
        <h1 className="font-semibold text-xl">Try</h1>
        <p className="text-soft">
          What happens to these URLs under the draft on their way through the gates: for whom, when, and what decides.
        </p>
      </div>
      <ViewButtons
        names={names}
        chosen={view}
        onChoose={(v) => navigate({ search: (before) => ({ ...before, view: v }) })}
      />
      {view === 'many' && <Many text={text} setText={setText} />}
      {view === 'matrix' && <Matrix text={text} setText={setText} />}
      {view === 'week' && <Week text={text} setText={setText} />}
      {view === 'compare' && <Compare />}
    </div>
  )
}

type TextProps = { text: string; setText: (text: string) => void }

const linesOf = (text: string) =>
  text
    .split('\n')
    .map((line) => line.trim())
    .filter((line) => line !== '' && !line.startsWith('#'))

type FormProps = TextProps & {
  view: TryView
  pending: boolean
  onTry: (urls: string[]) => void
  children?: React.ReactNode
}

function URLsForm({ text, setText, view, pending, onTry, children }: FormProps) {
  const urls = linesOf(text)
  const tooMany = urls.length > most[view]
  const submit = (event: FormEvent) => {
    event.preventDefault()
    onTry(urls)
  }
  return (
    <form onSubmit={submit} className="flex flex-col gap-2">
      <TextArea
        label="URLs, one a line"
        rows={5}
        spellCheck={false}
        value={text}
        onChange={(e) => setText(e.target.value)}
        error={tooMany ? `at most ${formatNumber(most[view])} at once; the command line takes any number` : undefined}
      />
      <div className="flex items-center gap-2">
        {children}
        <Button type="submit" look="main" disabled={urls.length === 0 || tooMany || pending}>
          {pending ? 'Trying…' : urls.length > 0 ? `Try ${count(urls.length, 'URL', 'URLs')}` : 'Try them'}
        </Button>
        {text === '' && (
          <Button look="quiet" onClick={() => setText(sample)}>
            Fill in some to see how it works
          </Button>
        )}
      </div>
    </form>
  )
}

function Many({ text, setText }: TextProps) {
  const { as, at, sight } = useSearch({ from: '/try' })
  const tryMany = useTryMany()
  return (
    <>
      <URLsForm
        text={text}
        setText={setText}
        view="many"
        pending={tryMany.isPending}
        onTry={(urls) => tryMany.mutate({ urls, ask: { as, at, sight } })}
      />
      {tryMany.error && <ProblemNotice error={tryMany.error} />}
      {tryMany.data ? (
        <Results trials={tryMany.data.trials} who={`for ${tryMany.data.who.name}`} />
      ) : (
        <EmptyNotice title="Nothing tried yet">
          Paste addresses from a complaint, a log or a browser’s history. Who asks, and when, is what the bar above
          says. For a single one, the bar does it from any page; press <kbd className="font-mono text-xs">/</kbd> to get
          there.
        </EmptyNotice>
      )}
    </>
  )
}

/** The rows that are shown; more are counted, and the command line gives them all. */
const shownRows = 1000

const counted = { allow: 'allowed', watch: 'allowed and flagged', hold: 'held', block: 'blocked' }

function Results({ trials, who }: { trials: Trial[]; who: string }) {
  const parts = verdicts
    .map((v) => [v, trials.filter((t) => t.verdict === v).length] as const)
    .filter(([v, n]) => n > 0 || v === 'allow' || v === 'block')
    .map(([v, n]) => `${formatNumber(n)} ${counted[v]}`)
  const noURL = trials.filter((t) => !t.verdict).length
  return (
    <section aria-label="Answers">
      <p className="pb-2" role="status">
        {parts.join(', ')}
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
                <TryLink url={t.url ?? t.input} />
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

/** Opens the sheet with the trial of a URL, as somebody where they are named. */
function TryLink({ url, as, at, children }: { url: string; as?: string; at?: string; children?: React.ReactNode }) {
  return (
    <Link
      from="/try"
      search={(before) => ({ ...before, url, as: as ?? before.as, at: at ?? before.at })}
      className="text-left underline decoration-rule underline-offset-2 hover:decoration-ink"
    >
      {children ?? <Mono>{url}</Mono>}
    </Link>
  )
}

function Matrix({ text, setText }: TextProps) {
  const { at, sight } = useSearch({ from: '/try' })
  const matrix = useMatrix()
  const data = matrix.data
  return (
    <>
      <URLsForm
        text={text}
        setText={setText}
        view="matrix"
        pending={matrix.isPending}
        onTry={(urls) => matrix.mutate({ urls, ask: { at, sight } })}
      />
      {matrix.error && <ProblemNotice error={matrix.error} />}
      {!data && !matrix.error && (
        <EmptyNotice title="Who gets what?">
          Every URL against every group that has a policy, side by side, at the moment that the bar above says. A
          verdict opens the whole answer.
        </EmptyNotice>
      )}
      {data && (
        <div className="overflow-x-auto">
          <table className="border-collapse">
            <thead>
              <tr>
                <Head className="min-w-60">URL</Head>
                {data.who.map((w) => (
                  <Head key={w.name} className="w-20 align-bottom">
                    {w.group?.name ?? w.name}
                  </Head>
                ))}
              </tr>
            </thead>
            <tbody>
              {data.rows.slice(0, shownRows).map((row, i) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: a URL may stand in it twice
                <tr key={i} className="hover:bg-wash">
                  <td className={cellClass}>
                    <Mono>{row.input}</Mono>
                    {row.problem && <NoVerdict>no URL</NoVerdict>}
                  </td>
                  {row.cells.map((cell, c) => (
                    <td key={data.who[c]?.name} className={`${cellClass} text-sm`} title={cell.by}>
                      <TryLink url={row.input} as={data.who[c]?.group?.name ?? data.who[c]?.name} at={at}>
                        <VerdictMark verdict={cell.verdict} />
                      </TryLink>
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </>
  )
}

function Week({ text, setText }: TextProps) {
  const { as, sight } = useSearch({ from: '/try' })
  const sweep = useSweep()
  const data = sweep.data
  return (
    <>
      <URLsForm
        text={text}
        setText={setText}
        view="week"
        pending={sweep.isPending}
        onTry={(urls) => sweep.mutate({ urls, ask: { as, sight } })}
      />
      {sweep.error && <ProblemNotice error={sweep.error} />}
      {!data && !sweep.error && (
        <EmptyNotice title="When does it change?">
          The verdicts of seven days, exact to the minute: for whom the bar above names, else for every group that has a
          policy.
        </EmptyNotice>
      )}
      {data && (
        <table className="w-full border-collapse">
          <thead>
            <tr>
              <Head className="w-64">URL</Head>
              <Head className="w-48">Who</Head>
              <Head>The seven days from today</Head>
            </tr>
          </thead>
          <tbody>
            {data.rows.map((row, i) => (
              <tr key={`${row.url} ${row.who.name}`}>
                <td className={cellClass}>{data.rows[i - 1]?.url !== row.url && <Mono>{row.url}</Mono>}</td>
                <td className={`${cellClass} text-sm`}>{row.who.group?.name ?? row.who.name}</td>
                <td className={cellClass}>
                  <Strip segments={row.strip} label={`${row.url} for ${row.who.name}`} days={i === 0} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  )
}

function Compare() {
  const { url: tried = '', as: asked = '' } = useSearch({ from: '/try' })
  const [url, setURL] = useState(tried)
  const [sides, setSides] = useState<Side[]>([
    { as: asked, at: '', on: 'draft' },
    { as: '', at: '', on: 'draft' },
  ])
  const compare = useCompare()
  const set = (i: number, change: Partial<Side>) => setSides(sides.map((s, at) => (at === i ? { ...s, ...change } : s)))
  const submit = (event: FormEvent) => {
    event.preventDefault()
    const [a, b] = sides
    if (a && b) compare.mutate({ url, a, b })
  }
  return (
    <form onSubmit={submit} className="flex flex-col gap-4">
      <div className="flex items-end gap-2">
        <label className="flex grow flex-col gap-1 font-semibold text-sm">
          URL
          <input
            value={url}
            onChange={(e) => setURL(e.target.value)}
            placeholder="harbour-news.example/puzzles"
            spellCheck={false}
            className={`${fieldClass} mono h-9 font-normal`}
          />
        </label>
        <Button type="submit" look="main" className="h-9!" disabled={url.trim() === '' || compare.isPending}>
          Compare
        </Button>
      </div>
      <div className="grid grid-cols-2 gap-8">
        {sides.map((side, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: the left and the right
          <fieldset key={i} className="flex min-w-0 items-center gap-2">
            <legend className="pb-1 font-semibold text-sm">{i === 0 ? 'This' : 'Beside this'}</legend>
            <WhoField
              label={`Who asks, ${i === 0 ? 'left' : 'right'}`}
              value={side.as}
              onChange={(as) => set(i, { as })}
              className="h-9 min-w-0 grow"
            />
            <span className="text-sm text-soft">at</span>
            <input
              aria-label={`When, ${i === 0 ? 'left' : 'right'}`}
              value={side.at}
              onChange={(e) => set(i, { at: e.target.value })}
              placeholder="now"
              className={`${fieldClass} h-9 w-28 min-w-0`}
            />
            <span className="text-sm text-soft">on</span>
            <select
              aria-label={`On what, ${i === 0 ? 'left' : 'right'}`}
              value={side.on}
              onChange={(e) => set(i, { on: e.target.value as Side['on'] })}
              className={`${fieldClass} h-9`}
            >
              <option value="draft">draft</option>
              <option value="live">live</option>
            </select>
          </fieldset>
        ))}
      </div>
      {compare.error && <ProblemNotice error={compare.error} />}
      {!compare.data && !compare.error && (
        <EmptyNotice title="Why for the one and not for the other?">
          Two people, two moments, two groups, or the draft beside what is live: the answer is both verdicts, and the
          first step at which they part.
        </EmptyNotice>
      )}
      {compare.data && (
        <>
          <p role="status" className="border-reed border-l-3 bg-reed-wash px-3 py-2">
            {compare.data.because}
          </p>
          <div className="grid grid-cols-2 gap-8">
            {[compare.data.a, compare.data.b].map((side, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: the left and the right
              <section key={i} aria-label={side.who.name} className="flex flex-col gap-1.5">
                <h2 className="font-semibold">
                  {side.who.name}
                  <span className="font-normal text-soft">
                    , {formatShort(side.at)}
                    {sides[i]?.on === 'live' && ', live'}
                  </span>
                </h2>
                {isVerdict(side.trial.verdict) && <VerdictMark verdict={side.trial.verdict} large />}
                <p>{side.trial.because}</p>
                <p className="text-sm text-soft">
                  Groups: {side.trial.belongs?.groups.map((g) => g.name).join(', ') || 'none'}
                </p>
              </section>
            ))}
          </div>
        </>
      )}
    </form>
  )
}
