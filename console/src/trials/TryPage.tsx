import { useNavigate, useSearch } from '@tanstack/react-router'
import { type FormEvent, useState } from 'react'
import { useMay } from '../may/may'
import { Button } from '../ui/Button'
import { TextArea } from '../ui/Field'
import { count, formatNumber } from '../ui/format'
import { ViewButtons } from '../ui/ViewButtons'
import { CompareView } from './CompareView'
import { ManyView } from './ManyView'
import { MatrixView } from './MatrixView'
import { addressOf, linesOf } from './urls'
import type { TryView } from './views'
import { WeekView } from './WeekView'

/** The most URLs of one call. */
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

/** Trials of many URLs: for many groups, over a week, or two side by side. The try bar is for a single trial. */
export function TryPage() {
  const may = useMay()
  const { view = 'many', urls: linked = '' } = useSearch({ from: '/try' })
  const navigate = useNavigate({ from: '/try' })
  const [text, setText] = useState(linked)
  // The address holds the URLs under trial, so that a link shows a colleague the same. Texts too long for an address are kept here.
  const [kept, setKept] = useState<string[]>([])
  const urls = linked ? linesOf(linked) : kept
  const ask = (asked: string[]) => {
    const address = addressOf(asked)
    setKept(address === undefined ? asked : [])
    void navigate({ search: (before) => ({ ...before, urls: address }) })
  }
  return (
    <div className="flex h-full flex-col gap-4 overflow-y-auto px-5 py-4">
      <div>
        <h1 className="font-semibold text-xl">Try</h1>
        <p className="text-soft">
          What happens to these URLs under the draft on their way through the gates: for whom, when, and what decides.
        </p>
      </div>
      <ViewButtons
        names={
          Object.fromEntries(
            Object.entries(names).filter(([v]) => v !== 'matrix' || may('tryMatrix', {})),
          ) as typeof names
        }
        chosen={view}
        onChoose={(v) => navigate({ search: (before) => ({ ...before, view: v }) })}
      />
      {view === 'compare' ? (
        <CompareView />
      ) : (
        <>
          <URLsForm text={text} setText={setText} most={most[view]} onTry={ask} />
          {kept.length > 0 && (
            <p className="text-sm text-soft">These are too many for a link: whoever opens this address sees none.</p>
          )}
          {view === 'many' && <ManyView urls={urls} />}
          {view === 'matrix' && <MatrixView urls={urls} />}
          {view === 'week' && <WeekView urls={urls} />}
        </>
      )}
    </div>
  )
}

type FormProps = {
  text: string
  setText: (text: string) => void
  most: number
  onTry: (urls: string[]) => void
}

function URLsForm({ text, setText, most: limit, onTry }: FormProps) {
  const urls = linesOf(text)
  const tooMany = urls.length > limit
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
        error={tooMany ? `at most ${formatNumber(limit)} at once; the command line takes any number` : undefined}
      />
      <div className="flex items-center gap-2">
        <Button type="submit" look="main" disabled={urls.length === 0 || tooMany}>
          {urls.length > 0 ? `Try ${count(urls.length, 'URL', 'URLs')}` : 'Try them'}
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
