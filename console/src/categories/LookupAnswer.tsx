import { useQuery } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import { useState } from 'react'
import { trialOf } from '../address/trialSearch'
import { ExceptionDialog } from '../exceptions/ExceptionDialog'
import { placesOf } from '../places/places'
import { Button } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { Mono } from '../ui/Mono'
import { Loading, ProblemNotice } from '../ui/Notice'
import { cellClass } from '../ui/Table'
import { NoVerdict } from '../ui/VerdictMark'
import { AddToListDialog } from './AddToListDialog'
import { CategoryNames } from './CategoryNames'
import { CorrectDialog } from './CorrectDialog'
import { type CategoryRef, type Given, type Lookup, lookupOptions } from './categoryQueries'
import { LookupLink } from './LookupLink'
import { ScoreSum } from './ScorecardsView'

export function Answer({ url }: { url: string }) {
  const found = useQuery(lookupOptions(url))
  const [open, setOpen] = useState<'correct' | 'list' | 'exception' | null>(null)
  if (found.isPending) return <Loading what="what it is" />
  if (found.error) return <ProblemNotice error={found.error} retry={() => found.refetch()} />
  const l = found.data
  if (!l) return null
  if (l.problem !== undefined || !l.class) {
    return (
      <div>
        <NoVerdict>no URL</NoVerdict>
        <p>{l.problem}</p>
      </div>
    )
  }
  const places = placesOf(l.url ?? url)
  return (
    <>
      <div className="flex items-start gap-6">
        <div className="grow">
          <Mono className="text-soft">{l.url ?? ''}</Mono>
          <Headline categories={l.class.categories} />
        </div>
        <div className="flex shrink-0 gap-2 pt-1">
          <Button look="main" does="correct" onClick={() => setOpen('correct')}>
            {l.class.categories.length === 0 ? 'Say what it is' : 'Correct'}
          </Button>
          <Button does="addEntries" onClick={() => setOpen('list')}>
            Add to a list
          </Button>
          <Button does="addException" onClick={() => setOpen('exception')}>
            Make an exception
          </Button>
          <TryLink url={l.url ?? url} />
        </div>
      </div>
      <div className="grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] gap-10">
        <div className="flex flex-col gap-5">
          <Said title="Because" all={l.class.given} />
          <Said title="Also said, and does not count beside that" all={l.class.overruled} />
          {l.class.scores.length > 0 && (
            <section aria-label="Scorecards" className="flex flex-col gap-3">
              <h2 className="font-semibold text-sm text-soft">Scorecards</h2>
              {l.class.scores.map((s) => (
                <ScoreSum key={s.id} score={s} />
              ))}
            </section>
          )}
        </div>
        <div className="flex flex-col gap-5">
          <Above lookup={l} />
          <Before lookup={l} />
        </div>
      </div>
      {open === 'correct' && <CorrectDialog places={places} onClose={() => setOpen(null)} />}
      {open === 'exception' && (
        <ExceptionDialog begin={{ entries: [places[0]?.entry ?? ''] }} places={places} onClose={() => setOpen(null)} />
      )}
      {open === 'list' && <AddToListDialog places={places} onClose={() => setOpen(null)} />}
    </>
  )
}

function TryLink({ url }: { url: string }) {
  return (
    <Link
      from="/lookup"
      search={(before) => ({ ...before, url })}
      className="inline-flex h-8 items-center rounded-sm border border-edge bg-leaf px-3 font-semibold text-sm hover:bg-wash"
    >
      Try it
    </Link>
  )
}

function Headline({ categories }: { categories: CategoryRef[] }) {
  if (categories.length === 0) {
    return (
      <p className="text-lg">
        <span className="font-semibold">Unrated.</span> No pack, list or word says what it is.
      </p>
    )
  }
  return (
    <ul>
      {categories.map((c) => (
        <li key={c.key} className="text-lg">
          <span className="text-soft">{c.family} › </span>
          <span className="font-semibold">
            <CategoryNames categories={[c]} />
          </span>
        </li>
      ))}
    </ul>
  )
}

function Said({ title, all }: { title: string; all: Given[] }) {
  if (all.length === 0) return null
  return (
    <section aria-label={title}>
      <h2 className="pb-1 font-semibold text-sm text-soft">{title}</h2>
      <table className="w-full border-collapse">
        <tbody>
          {all.map((g) => (
            <tr key={`${g.source} ${g.entry.id} ${g.pack?.id ?? g.list?.id} ${g.categories.map((c) => c.key)}`}>
              <td className={`${cellClass} w-28 text-sm`}>{g.source}</td>
              <td className={cellClass} title={g.entry.explain}>
                <Mono>{g.entry.pattern}</Mono>
                <p className="text-sm text-soft">
                  {g.pack && (
                    <Link
                      to="/packs/$id"
                      params={{ id: g.pack.id }}
                      search={(before) => ({ ...trialOf(before) })}
                      className="text-reed underline underline-offset-2"
                    >
                      {g.pack.name}
                    </Link>
                  )}
                  {g.pack && `, version ${g.pack.version}`}
                  {g.list && (
                    <Link
                      to="/lists/$id"
                      params={{ id: g.list.id }}
                      search={(before) => ({ ...trialOf(before) })}
                      className="text-reed underline underline-offset-2"
                    >
                      {g.list.name}
                    </Link>
                  )}
                </p>
              </td>
              <td className={`${cellClass} text-right`}>
                <CategoryNames categories={g.categories} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  )
}

/** The categories at each level, from the registrable domain down to the page. */
function Above({ lookup }: { lookup: Lookup }) {
  const places = lookup.neighbours ?? []
  if (places.length < 2) return null
  return (
    <section aria-label="From the site to the page">
      <h2 className="pb-1 font-semibold text-sm text-soft">From the site to the page</h2>
      <ol>
        {places.map((n, i) => (
          <li key={n.url} className="border-rule border-b py-1.5" style={{ paddingLeft: `${i * 0.9}rem` }}>
            <LookupLink url={n.url.replace(/^https:\/\//, '').replace(/\/$/, '')} />
            <p className="text-sm">
              <CategoryNames categories={n.categories} />
              {n.entry && n.entry !== places[i - 1]?.entry && (
                <span className="text-soft"> by an entry of its own</span>
              )}
            </p>
          </li>
        ))}
      </ol>
    </section>
  )
}

function Before({ lookup }: { lookup: Lookup }) {
  if (!lookup.past || lookup.past.length === 0) return null
  return (
    <section aria-label="What packs said">
      <h2 className="pb-1 font-semibold text-sm text-soft">What packs said</h2>
      <ol>
        {lookup.past.map((p) => (
          <li key={`${p.pack} ${p.from}`} className="border-rule border-b py-1.5">
            <CategoryNames categories={p.categories} none="nothing" />
            <p className="text-sm text-soft">
              from {formatMoment(p.from)} · {p.pack}, version {p.version}
            </p>
          </li>
        ))}
      </ol>
    </section>
  )
}
