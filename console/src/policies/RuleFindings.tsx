import { useQuery } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import { clsx } from 'clsx'
import { trialOf } from '../address/trialSearch'
import { reviewOptions } from '../draft/draftQueries'

/** The findings about a rule, except for conflicts with the baseline, which are shown elsewhere. */
export function RuleFindings({ policy, rule }: { policy: string; rule: number }) {
  const review = useQuery(reviewOptions)
  const found = (review.data?.findings ?? []).filter(
    (f) => f.at.id === policy && f.at.rule === rule && !f.accepted && f.kind !== 'baseline stands',
  )
  return found.map((f) => (
    <p key={f.key} className={clsx('text-sm', f.severity === 'wrong' ? 'text-clay' : 'text-ochre')}>
      {f.text}{' '}
      <Link to="/changes" search={trialOf} className="underline underline-offset-2">
        Mend it
      </Link>
    </p>
  ))
}
