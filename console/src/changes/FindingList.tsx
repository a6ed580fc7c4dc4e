import { useQuery } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import { useState } from 'react'
import { reviewOptions } from '../draft/draftQueries'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { fieldClass } from '../ui/Field'
import { Mono } from '../ui/Mono'
import { Loading, ProblemNotice } from '../ui/Notice'
import { type Finding, useAccept, useMend, useUnaccept } from './changeQueries'

const severities: { key: Finding['severity']; name: string; ink: string }[] = [
  { key: 'wrong', name: 'It does not do what it says', ink: 'text-clay' },
  { key: 'doubt', name: 'It may be meant otherwise', ink: 'text-ochre' },
  { key: 'remark', name: 'Good to know', ink: 'text-soft' },
]

/** The findings of the review, the gravest first; each has its proof, a step that mends it, and a way to mark it as intended. */
export function FindingList() {
  const review = useQuery(reviewOptions)
  const [accepted, setAccepted] = useState(false)
  if (review.isPending) return <Loading what="the review" />
  if (review.error) return <ProblemNotice error={review.error} retry={() => review.refetch()} />
  const shown = review.data.findings.filter((f) => accepted || !f.accepted)
  const hidden = review.data.findings.length - review.data.open
  return (
    <div className="flex flex-col gap-4">
      {shown.length === 0 && <p className="text-soft">The review finds nothing.</p>}
      {severities.map(({ key, name, ink }) => {
        const some = shown.filter((f) => f.severity === key)
        if (some.length === 0) return null
        return (
          <details key={key} open={key !== 'remark'}>
            <summary className={`cursor-pointer font-semibold ${ink}`}>
              {name} <span className="font-normal text-sm text-soft">{some.length}</span>
            </summary>
            <ul>
              {some.map((f) => (
                <FindingRow key={f.key} finding={f} />
              ))}
            </ul>
          </details>
        )
      })}
      {hidden > 0 && (
        <button type="button" onClick={() => setAccepted(!accepted)} className="self-start text-reed text-sm underline">
          {accepted ? 'Hide what was accepted' : `Show ${hidden} that were accepted`}
        </button>
      )}
    </div>
  )
}

function FindingRow({ finding: f }: { finding: Finding }) {
  const mend = useMend()
  const accept = useAccept()
  const unaccept = useUnaccept()
  const announce = useAnnounce()
  const [reason, setReason] = useState<string | null>(null)
  const error = mend.edit.error ?? accept.error ?? unaccept.error
  return (
    <li className="border-rule border-t py-2">
      <div className="flex items-start gap-3">
        <div className="min-w-0 grow">
          <p>
            <Place finding={f} /> {f.text}
          </p>
          <p className="text-sm text-soft">
            {f.why}
            {f.shown && (
              <>
                {' '}
                Shown by{' '}
                <Link
                  to="."
                  search={(before) => ({ ...before, url: f.shown })}
                  className="text-left underline decoration-rule underline-offset-2 hover:decoration-ink"
                >
                  <Mono>{f.shown}</Mono>
                </Link>
              </>
            )}
          </p>
          {f.accepted && (
            <p className="text-sm text-soft">
              Accepted by {f.accepted.by}: {f.accepted.reason}
            </p>
          )}
        </div>
        {f.fix &&
          (mend.can(f) ? (
            <Button
              title={f.fix.text}
              does="putPolicy"
              disabled={mend.edit.isPending}
              onClick={() => afterwards(mend.edit.mutateAsync(f), () => announce(`Done: ${f.fix?.text}`))}
            >
              {steps[f.fix.do]}
            </Button>
          ) : (
            <span className="max-w-48 text-right text-sm text-soft">{f.fix.text}</span>
          ))}
        {f.accepted ? (
          <Button
            look="quiet"
            does="unacceptFinding"
            onClick={() => afterwards(unaccept.mutateAsync(f.key), () => announce('It counts again.'))}
          >
            Reopen
          </Button>
        ) : (
          <Button
            look="quiet"
            does="acceptFinding"
            aria-expanded={reason !== null}
            onClick={() => setReason(reason === null ? '' : null)}
          >
            Accept
          </Button>
        )}
      </div>
      {reason !== null && !f.accepted && (
        <form
          className="mt-2 flex gap-2"
          onSubmit={(e) => {
            e.preventDefault()
            afterwards(accept.mutateAsync({ key: f.key, reason }), () => announce('Accepted.'))
          }}
        >
          <input
            aria-label="Why it is as it should be"
            placeholder="Why it is as it should be"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
            className={`${fieldClass} h-8 grow`}
          />
          <Button type="submit" does="acceptFinding" disabled={accept.isPending}>
            Accept it
          </Button>
        </form>
      )}
      {error && <ProblemNotice error={error} />}
    </li>
  )
}

const steps: Record<NonNullable<Finding['fix']>['do'], string> = {
  'switch rule off': 'Switch off',
  'move rule up': 'Move up',
  'remove object': 'Delete',
  'remove entries': 'Take out',
  'switch entries off': 'Switch off',
  'replace entry': 'Replace',
  'add entry': 'Add',
}

/** A link to where a finding is. */
function Place({ finding: f }: { finding: Finding }) {
  const className = 'font-semibold underline decoration-rule underline-offset-2 hover:decoration-ink'
  switch (f.at.kind) {
    case 'policy':
      return (
        <Link to="/policies/$id" params={{ id: f.at.id }} className={className}>
          {f.at.name}
        </Link>
      )
    case 'list':
      return (
        <Link to="/lists/$id" params={{ id: f.at.id }} className={className}>
          {f.at.name}
        </Link>
      )
    case 'schedule':
      return (
        <Link to="/schedules" search={{ id: f.at.id }} className={className}>
          {f.at.name}
        </Link>
      )
    case 'exception':
      return (
        <Link to="/exceptions" search={{ view: 'all', q: f.at.name }} className={className}>
          {f.at.name}
        </Link>
      )
  }
  return <span className="font-semibold">{f.at.name}</span>
}
