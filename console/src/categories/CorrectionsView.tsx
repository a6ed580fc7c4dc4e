import { useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { Download } from 'lucide-react'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button, buttonClass } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { useSettled } from '../ui/useSettled'
import { categoriesOptions, correctionsOptions, useCorrect, useUncorrect } from './categoryQueries'
import { LookupLink } from './LookupLink'

/** All corrections, and which of them agree with the catalogue by now. */
export function CorrectionsView({ text }: { text: string }) {
  const pages = useInfiniteQuery(correctionsOptions(useSettled(text.trim())))
  const tree = useQuery(categoriesOptions())
  const uncorrect = useUncorrect()
  const correct = useCorrect()
  const announce = useAnnounce()
  if (pages.isPending) return <Loading what="the corrections" />
  if (pages.error) return <ProblemNotice error={pages.error} retry={() => pages.refetch()} />
  const names = new Map(tree.data?.categories.map((c) => [c.key, c.name]))
  const told = (keys: string[]) => keys.map((key) => names.get(key) ?? key).join(', ')
  const all = pages.data.pages.flatMap((page) => page.corrections)
  if (all.length === 0) {
    return (
      <EmptyNotice title={text ? 'No such correction' : 'No corrections yet'}>
        Where the catalogue is wrong about a site, look the site up and say what it is. The correction counts at once,
        and can be sent to whoever keeps the pack.
      </EmptyNotice>
    )
  }
  return (
    <div className="min-h-0 grow overflow-y-auto pb-4">
      {uncorrect.error && <ProblemNotice error={uncorrect.error} />}
      <table className="w-full border-collapse" onKeyDown={onRowKeys}>
        <thead>
          <tr>
            <Head>Entry</Head>
            <Head>We say</Head>
            <Head>The catalogue says</Head>
            <Head>Why</Head>
            <Head>By</Head>
            <Head>
              <span className="sr-only">Actions</span>
            </Head>
          </tr>
        </thead>
        <tbody>
          {all.map((c) => (
            <tr key={c.id} className="hover:bg-wash">
              <td className={cellClass} title={c.explain}>
                <LookupLink url={c.entry} />
              </td>
              <td className={cellClass}>{told(c.categories)}</td>
              <td className={cellClass}>
                {told(c.catalogue) || <span className="text-soft italic">unrated</span>}
                {c.agreed && <p className="text-ochre text-sm">the same: no longer needed</p>}
              </td>
              <td className={cellClass}>{c.reason}</td>
              <td className={`${cellClass} whitespace-nowrap`}>
                {c.by} <span className="text-sm text-soft">{formatMoment(c.at)}</span>
              </td>
              <td className={`${cellClass} text-right`}>
                <Button
                  look="quiet"
                  does="removeCorrection"
                  disabled={uncorrect.isPending}
                  onClick={() =>
                    afterwards(uncorrect.mutateAsync(c.id), () =>
                      announce(`${c.entry} is what the catalogue says again.`, {
                        label: 'Undo',
                        run: () => correct.mutate({ entries: [c.entry], categories: c.categories, reason: c.reason }),
                      }),
                    )
                  }
                >
                  Take back
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="flex gap-2 pt-3">
        {pages.hasNextPage && <Button onClick={() => pages.fetchNextPage()}>More</Button>}
        <a href="/api/v1/corrections/export" download className={buttonClass()}>
          <Download size={15} aria-hidden /> Save for the pack's maker
        </a>
      </div>
    </div>
  )
}
