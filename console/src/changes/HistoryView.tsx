import { useQuery } from '@tanstack/react-query'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { useState } from 'react'
import { diffOptions } from '../draft/draftQueries'
import { Button } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { Check, TextArea } from '../ui/Field'
import { Loading, ProblemNotice } from '../ui/Notice'
import { SaveDialog } from '../ui/SaveDialog'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { type Revision, revisionsOptions, useMakeLive } from './changeQueries'
import { DifferenceList } from './DifferenceList'
import { TurnList } from './TurnList'

/** All revisions. Any two states can be compared, and any revision can be published again. */
export function HistoryView() {
  const revisions = useQuery(revisionsOptions)
  const { from, to } = useSearch({ from: '/changes' })
  const navigate = useNavigate({ from: '/changes' })
  const [back, setBack] = useState<Revision | null>(null)
  if (revisions.isPending) return <Loading what="the revisions" />
  if (revisions.error) return <ProblemNotice error={revisions.error} retry={() => revisions.refetch()} />
  const compare = (a: number, b: string) => navigate({ search: (before) => ({ ...before, from: String(a), to: b }) })
  return (
    <>
      <table className="mt-2 w-full border-collapse" onKeyDown={onRowKeys}>
        <thead>
          <tr>
            <Head right className="w-24">
              Revision
            </Head>
            <Head className="w-40">When</Head>
            <Head className="w-32">Who</Head>
            <Head>What for</Head>
            <Head className="w-72">
              <span className="sr-only">Do</span>
            </Head>
          </tr>
        </thead>
        <tbody>
          {revisions.data.map((r, i) => (
            <tr key={r.number} className="hover:bg-wash">
              <td className={`${cellClass} text-right tabular-nums`}>
                {i === 0 && <span className="mr-2 rounded-sm bg-reed-wash px-1.5 text-reed text-sm">live</span>}
                {r.number}
              </td>
              <td className={`${cellClass} whitespace-nowrap`}>{formatMoment(r.at)}</td>
              <td className={cellClass}>{r.by}</td>
              <td className={cellClass}>
                {r.note}
                {r.sameAs && <p className="text-sm text-soft">The same as revision {r.sameAs}.</p>}
                {r.forced && (
                  <p className="text-clay text-sm">
                    {r.failed} of {r.asked} expectations failed: {r.forced}
                  </p>
                )}
              </td>
              <td className={`${cellClass} whitespace-nowrap text-right`}>
                {r.number > 1 && (
                  <Button look="quiet" onClick={() => compare(r.number - 1, String(r.number))}>
                    What it changed
                  </Button>
                )}
                {i > 0 && (
                  <Button look="quiet" does="makeLiveAgain" onClick={() => setBack(r)}>
                    Put live again
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {from && to && <Compared from={from} to={to} />}
      {back && <BackDialog revision={back} onClose={() => setBack(null)} />}
    </>
  )
}

function Compared({ from, to }: { from: string; to: string }) {
  const diff = useQuery(diffOptions(from, to))
  return (
    <section className="flex flex-col gap-3 pt-6">
      <h2 className="font-semibold text-lg">
        From revision {from} to {/^\d/.test(to) ? `revision ${to}` : `the ${to}`}
      </h2>
      {diff.isPending && <Loading what="the differences" />}
      {diff.error && <ProblemNotice error={diff.error} />}
      {diff.data && diff.data.changes.length === 0 && <p className="text-soft">They are the same.</p>}
      {diff.data && <DifferenceList changes={diff.data.changes} />}
      <TurnList from={from} to={to} />
    </section>
  )
}

function BackDialog({ revision, onClose }: { revision: Revision; onClose: () => void }) {
  const makeLive = useMakeLive()
  const [note, setNote] = useState('')
  const [draft, setDraft] = useState(false)
  return (
    <SaveDialog
      title={`Put revision ${revision.number} live again`}
      does="makeLiveAgain"
      description="It becomes a new revision that is the same. Nothing is taken out of the history."
      action="Put it live"
      ready={note.trim() !== ''}
      save={() => makeLive.mutateAsync({ number: revision.number, note, draft })}
      told={(made) => `Revision ${made.number} is live: the same as ${revision.number}.`}
      onClose={onClose}
    >
      {() => (
        <>
          <TextArea
            className="font-sans"
            label="Why?"
            rows={2}
            value={note}
            onChange={(e) => setNote(e.target.value)}
          />
          <Check
            label="The draft becomes the same, too. Else it stays as it is, so that it can be mended."
            checked={draft}
            onChange={setDraft}
          />
        </>
      )}
    </SaveDialog>
  )
}
