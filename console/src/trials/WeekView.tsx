import { useQuery } from '@tanstack/react-query'
import { useSearch } from '@tanstack/react-router'
import { Mono } from '../ui/Mono'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { Strip } from '../ui/Strip'
import { cellClass, Head } from '../ui/Table'
import { sweepOptions } from './trialQueries'

/** The verdicts of a week, for the person or group in the try bar, or for every group that has a policy. */
export function WeekView({ urls }: { urls: string[] }) {
  const { as, sight } = useSearch({ from: '/try' })
  const sweep = useQuery(sweepOptions(urls, { as, sight }))
  const data = sweep.data
  return (
    <>
      {sweep.error && <ProblemNotice error={sweep.error} />}
      {sweep.isLoading && <Loading what="the week" />}
      {urls.length === 0 && (
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
