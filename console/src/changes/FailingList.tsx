import { useQuery } from '@tanstack/react-query'
import { expectedOptions } from './changeQueries'
import { ExpectationRow } from './ExpectedView'

/** The expectations that do not hold in the draft. */
export function FailingList() {
  const expected = useQuery(expectedOptions)
  if (!expected.data) return null
  const failing = expected.data.results.filter((r) => !r.passed)
  if (failing.length === 0) {
    return (
      <p className="text-soft">
        {expected.data.results.length === 0
          ? 'Nothing is expected yet: save a trial whose verdict must stay as it is.'
          : `All ${expected.data.results.length} expectations hold.`}
      </p>
    )
  }
  return (
    <div>
      <h3 className="font-semibold text-clay">
        {failing.length} of {expected.data.results.length} expectations fail
      </h3>
      <ul>
        {failing.map((r) => (
          <ExpectationRow key={r.id} result={r} />
        ))}
      </ul>
    </div>
  )
}
