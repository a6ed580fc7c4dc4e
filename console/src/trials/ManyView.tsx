import { useQuery } from '@tanstack/react-query'
import { useSearch } from '@tanstack/react-router'
import { count, formatNumber } from '../ui/format'
import { Mono } from '../ui/Mono'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { NoVerdict, VerdictMark, verdicts } from '../ui/VerdictMark'
import { TryLink } from './TryLink'
import { type Trial, tryManyOptions } from './trialQueries'
import { shownRows } from './views'

/** The verdicts for many URLs, under the circumstances in the try bar. */
export function ManyView({ urls }: { urls: string[] }) {
  const { as, at, sight } = useSearch({ from: '/try' })
  const answers = useQuery(tryManyOptions(urls, { as, at, sight }))
  if (urls.length === 0) {
    return (
      <EmptyNotice title="Nothing tried yet">
        Paste addresses from a complaint, a log or a browser's history. Who asks, and when, is what the bar above says.
        For a single one, the bar does it from any page; press <kbd className="font-mono text-xs">/</kbd> to get there.
      </EmptyNotice>
    )
  }
  if (answers.isPending) return <Loading what={`the answers for ${count(urls.length, 'URL', 'URLs')}`} />
  if (answers.error) return <ProblemNotice error={answers.error} />
  return <Results trials={answers.data.trials} who={`for ${answers.data.who.name}`} />
}

const counted = { allow: 'allowed', watch: 'allowed and flagged', hold: 'held', block: 'blocked' }

function Results({ trials, who }: { trials: Trial[]; who: string }) {
  const parts = verdicts
    .map((v) => [v, trials.filter((t) => t.verdict === v).length] as const)
    .filter(([v, n]) => n > 0 || v === 'allow' || v === 'block')
    .map(([v, n]) => `${formatNumber(n)} ${counted[v]}`)
  const noURL = trials.filter((t) => !t.verdict).length
  return (
    <section aria-label="Answers">
      <p className="pb-2" role="status">
        {parts.join(', ')}
        {noURL > 0 && `, ${formatNumber(noURL)} no URL`} <span className="text-soft">{who}</span>
        {trials.length > shownRows && (
          <span className="text-soft">; the first {formatNumber(shownRows)} are shown</span>
        )}
      </p>
      <table className="w-full border-collapse" onKeyDown={onRowKeys}>
        <thead>
          <tr>
            <Head className="w-24">Verdict</Head>
            <Head>URL</Head>
            <Head>Entry</Head>
            <Head>List or category</Head>
            <Head>Rule</Head>
          </tr>
        </thead>
        <tbody>
          {trials.slice(0, shownRows).map((t, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: a URL may stand in it twice
            <tr key={i} className="hover:bg-wash">
              <td className={cellClass}>
                {t.verdict ? <VerdictMark verdict={t.verdict} /> : <NoVerdict>no URL</NoVerdict>}
              </td>
              <td className={cellClass}>
                <TryLink url={t.url ?? t.input} />
                {t.problem && <p className="text-sm text-soft">{t.problem}</p>}
              </td>
              <td className={cellClass}>{t.decider?.entry && <Mono>{t.decider.entry.pattern}</Mono>}</td>
              <td className={cellClass}>{t.decider?.list?.name ?? t.decider?.category?.name}</td>
              <td className={cellClass}>
                {t.decider?.rule ?? (t.verdict && <span className="text-soft">otherwise</span>)}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  )
}
