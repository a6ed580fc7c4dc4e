import { useQuery } from '@tanstack/react-query'
import { Check, X } from 'lucide-react'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { type ExpectationResult, expectedOptions, useRemoveExpectation } from './changeQueries'

/** All expectations, by folder, and whether each holds in the draft. */
export function ExpectedView() {
  const expected = useQuery(expectedOptions)
  if (expected.isPending) return <Loading what="what is expected" />
  if (expected.error) return <ProblemNotice error={expected.error} retry={() => expected.refetch()} />
  const folders = new Map<string, ExpectationResult[]>()
  for (const r of expected.data.results) folders.set(r.folder ?? '', [...(folders.get(r.folder ?? '') ?? []), r])
  if (folders.size === 0) {
    return (
      <EmptyNotice title="Nothing is expected yet">
        Try a URL as somebody; the answer has a button that saves it as an expectation. From then on it is tried on
        every change, and a draft that breaks it is not published by accident.
      </EmptyNotice>
    )
  }
  return (
    <div className="flex flex-col gap-6 pt-4">
      {[...folders].map(([folder, results]) => (
        <section key={folder}>
          <h2 className="font-semibold">{folder || 'Without a folder'}</h2>
          <ul>
            {results.map((r) => (
              <ExpectationRow key={r.id} result={r} removable />
            ))}
          </ul>
        </section>
      ))}
    </div>
  )
}

/** One expectation: what must hold and, if it fails, how the draft differs. */
export function ExpectationRow({ result: r, removable }: { result: ExpectationResult; removable?: boolean }) {
  const remove = useRemoveExpectation()
  const announce = useAnnounce()
  return (
    <li className="flex items-start gap-3 border-rule border-t py-2">
      <span className={`mt-1 shrink-0 ${r.passed ? 'text-reed' : 'text-clay'}`}>
        {r.passed ? <Check size={15} aria-hidden /> : <X size={15} aria-hidden />}
        <span className="sr-only">{r.passed ? 'holds' : 'fails'}</span>
      </span>
      <div className="min-w-0 grow">
        <p>{r.says}</p>
        {r.broken && <p className="text-clay text-sm">It cannot be tried: {r.broken}.</p>}
        {r.wrong.map((w) => (
          <p key={w.url} className="text-sm">
            <span className="font-semibold text-clay">{w.why}.</span> {w.because}
          </p>
        ))}
        {remove.error && <ProblemNotice error={remove.error} />}
      </div>
      {removable && (
        <Button
          look="quiet"
          does="removeExpectation"
          aria-label={`Delete the expectation ${r.name}`}
          onClick={() => afterwards(remove.mutateAsync(r.id), () => announce('Deleted the expectation.'))}
        >
          Delete
        </Button>
      )}
    </li>
  )
}
