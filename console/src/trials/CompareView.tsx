import { useSearch } from '@tanstack/react-router'
import { type FormEvent, useState } from 'react'
import { WhoField } from '../people/WhoField'
import { Button } from '../ui/Button'
import { formatShort } from '../ui/clock'
import { fieldClass } from '../ui/Field'
import { EmptyNotice, ProblemNotice } from '../ui/Notice'
import { isVerdict, VerdictMark } from '../ui/VerdictMark'
import { type Side, useCompare } from './trialQueries'

/** Two trials of one URL, side by side. */
export function CompareView() {
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
