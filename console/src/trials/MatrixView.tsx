import { useQuery } from '@tanstack/react-query'
import { useSearch } from '@tanstack/react-router'
import { Mono } from '../ui/Mono'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head } from '../ui/Table'
import { NoVerdict, VerdictMark } from '../ui/VerdictMark'
import { TryLink } from './TryLink'
import { matrixOptions } from './trialQueries'
import { shownRows } from './views'

/** The verdicts for every URL and every group that has a policy. */
export function MatrixView({ urls }: { urls: string[] }) {
  const { at, sight } = useSearch({ from: '/try' })
  const matrix = useQuery(matrixOptions(urls, { at, sight }))
  const data = matrix.data
  return (
    <>
      {matrix.error && <ProblemNotice error={matrix.error} />}
      {matrix.isLoading && <Loading what="who gets what" />}
      {urls.length === 0 && (
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
