import { useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { Dialog, DialogBody, DialogFoot } from '../ui/Dialog'
import { count, formatNumber } from '../ui/format'
import { Mono } from '../ui/Mono'
import { Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { type FindingKind, findingsOptions, type List, useRemoveEntries, useTidy } from './listQueries'
import { useUndo } from './useUndo'

const kinds: Record<FindingKind, [name: string, meaning: string]> = {
  duplicate: ['means the same', 'Another entry of the list means the same, written otherwise.'],
  covered: ['covered', 'Another entry of the list covers all that it covers.'],
  undone: ['undone', 'A carve-out of the list takes all of it out again.'],
  ended: ['ended', 'Its last day is past.'],
  contradict: ['contradicted', 'A list with the opposite verdict holds it, too, in one policy.'],
  costly: ['costly', 'It names nothing that a URL would have to hold, so it is tried on every one.'],
  elsewhere: ['elsewhere, too', 'Another list covers it as well, which may be meant.'],
}

/** The findings about the entries of a list, each with the step that mends it. */
export function TidyView({ list }: { list: List }) {
  const [kind, setKind] = useState<FindingKind | undefined>()
  const [absorbing, setAbsorbing] = useState(false)
  const found = useQuery(findingsOptions(list.id, list.version, kind))
  const remove = useRemoveEntries(list)
  const announce = useAnnounce()
  const undo = useUndo(list)
  if (found.isPending) return <Loading what="what is wrong with the list" />
  if (found.error) return <ProblemNotice error={found.error} retry={() => found.refetch()} />
  const { counts, findings } = found.data
  const absorbable = counts.filter((c) => c.absorbable).reduce((sum, c) => sum + c.count, 0)
  if (counts.length === 0) {
    return (
      <p className="py-6 text-soft">
        Nothing is wrong with the entries of this list: none is superfluous, undone, ended or contradicted.
      </p>
    )
  }
  return (
    <div className="flex min-h-0 grow flex-col gap-3 pb-3">
      <div className="flex flex-wrap items-center gap-2">
        <Button look={kind === undefined ? 'main' : 'plain'} onClick={() => setKind(undefined)}>
          All
        </Button>
        {counts.map((c) => (
          <Button
            key={c.kind}
            look={kind === c.kind ? 'main' : 'plain'}
            title={kinds[c.kind][1]}
            onClick={() => setKind(c.kind)}
          >
            {kinds[c.kind][0]} {formatNumber(c.count)}
          </Button>
        ))}
        <span className="grow" />
        {absorbable > 0 && (
          <Button does="tidyList" onClick={() => setAbsorbing(true)}>
            Absorb all {formatNumber(absorbable)} that change nothing
          </Button>
        )}
      </div>
      {remove.error && <ProblemNotice error={remove.error} />}
      <section
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a box that scrolls has to be reachable by the keyboard
        tabIndex={0}
        aria-label={`Findings in ${list.name}`}
        className="min-h-0 grow overflow-y-auto"
      >
        <table className="w-full border-collapse" onKeyDown={onRowKeys}>
          <thead>
            <tr>
              <Head>Entry</Head>
              <Head>Is</Head>
              <Head>Because</Head>
              <Head>
                <span className="sr-only">Mend</span>
              </Head>
            </tr>
          </thead>
          <tbody>
            {findings.map((f) => (
              <tr key={`${f.kind} ${f.entry.id}`} className="hover:bg-wash">
                <td className={cellClass}>
                  <Mono>{f.entry.text}</Mono>
                </td>
                <td className={`${cellClass} whitespace-nowrap text-soft`}>{kinds[f.kind][0]}</td>
                <td className={cellClass}>
                  {f.message}
                  {f.shown && (
                    <p className="text-sm text-soft">
                      Both cover <Mono>{f.shown}</Mono>
                    </p>
                  )}
                </td>
                <td className={`${cellClass} text-right`}>
                  <Button
                    does="removeEntries"
                    disabled={remove.isPending}
                    aria-label={`Take it out: ${f.entry.pattern}`}
                    onClick={() =>
                      remove.mutate(
                        { ids: [f.entry.id] },
                        { onSuccess: (done) => announce(`Took ${f.entry.pattern} out.`, undo(done.list.version)) },
                      )
                    }
                  >
                    Take it out
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
      {absorbing && <AbsorbDialog list={list} onClose={() => setAbsorbing(false)} />}
    </div>
  )
}

function AbsorbDialog({ list, onClose }: { list: List; onClose: () => void }) {
  const preview = useTidy(list)
  const tidy = useTidy(list)
  const announce = useAnnounce()
  const undo = useUndo(list)
  const { mutate } = preview
  useEffect(() => mutate(true), [mutate])
  return (
    <Dialog
      open
      wide
      onOpenChange={(open) => open || onClose()}
      title="Absorb what changes nothing"
      description="These entries go. What the list covers stays as it is; their notes go with them."
    >
      <DialogBody>
        {preview.isPending && <Loading what="what would go" />}
        {(preview.error ?? tidy.error) && <ProblemNotice error={(preview.error ?? tidy.error) as Error} />}
        <ul>
          {preview.data?.findings.map((f) => (
            <li key={`${f.kind} ${f.entry.id}`} className="border-rule border-t py-1.5">
              <Mono>{f.entry.text}</Mono> <span className="text-sm text-soft">{f.message}</span>
            </li>
          ))}
        </ul>
        {preview.data && preview.data.removed > preview.data.findings.length && (
          <p className="text-sm text-soft">
            and {formatNumber(preview.data.removed - preview.data.findings.length)} more
          </p>
        )}
      </DialogBody>
      <DialogFoot>
        <Button onClick={onClose}>Cancel</Button>
        <Button
          look="main"
          disabled={!preview.data || tidy.isPending}
          onClick={() =>
            afterwards(tidy.mutateAsync(false), (done) => {
              announce(`Took ${count(done.removed, 'entry', 'entries')} out of ${list.name}.`, undo(done.list.version))
              onClose()
            })
          }
        >
          Take {count(preview.data?.removed ?? 0, 'entry', 'entries')} out
        </Button>
      </DialogFoot>
    </Dialog>
  )
}
