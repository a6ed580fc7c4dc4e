import { useState } from 'react'
import { useAsked } from '../may/may'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { Dialog, DialogBody, DialogFoot } from '../ui/Dialog'
import { count, formatNumber } from '../ui/format'
import { Mono } from '../ui/Mono'
import { Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head } from '../ui/Table'
import { type List, recordedCompanionsOptions, useAddLines, useCompanions } from './listQueries'
import { useUndo } from './useUndo'

/** The hosts that a page needs, from a browser's recording, and those of them that the list lacks. */
export function CompanionsDialog({ list, onClose }: { list: List; onClose: () => void }) {
  const find = useCompanions(list.id)
  const add = useAddLines(list.id)
  const recorded = useAsked('getCompanions', recordedCompanionsOptions(list.id))
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set())
  const announce = useAnnounce()
  const undo = useUndo(list)
  const read = (file: File | undefined) => {
    if (!file) return
    find.mutate(file, {
      onSuccess: (found) => setChosen(new Set(found.companions.filter((c) => !c.inList).map((c) => c.entry))),
    })
  }
  const toggle = (entry: string) => {
    const next = new Set(chosen)
    if (!next.delete(entry)) next.add(entry)
    setChosen(next)
  }
  return (
    <Dialog
      open
      wide
      onOpenChange={(open) => open || onClose()}
      title={`What a page needs, and ${list.name}`}
      description="Open the page in a browser with its network log on, save the log as a HAR file, and give it here. The hosts that the page loads from and sends people on to are shown; those that the list lacks can be added."
    >
      <DialogBody>
        {recorded.data && recorded.data.length > 0 && (
          <section aria-label="From the journal">
            <h3 className="font-semibold text-sm">What was asked for together in the last week</h3>
            <table className="w-full border-collapse">
              <tbody>
                {recorded.data.map((c) => (
                  <tr key={`${c.page} ${c.host}`}>
                    <td className={`${cellClass} w-8`}>
                      {!c.inList && (
                        <input
                          type="checkbox"
                          aria-label={`Add ${c.host}`}
                          checked={chosen.has(c.entry)}
                          onChange={() => toggle(c.entry)}
                          className="accent-reed"
                        />
                      )}
                    </td>
                    <td className={cellClass}>
                      <Mono>{c.host}</Mono>
                    </td>
                    <td className={`${cellClass} text-sm text-soft`}>
                      {c.inList ? 'in the list; ' : ''}
                      {formatNumber(c.times)} of {formatNumber(c.of)} times with {c.page}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
        )}
        <label className="flex flex-col items-start gap-2 border border-edge border-dashed px-4 py-4">
          <span className="font-semibold text-sm">Recording</span>
          <input
            type="file"
            accept=".har,application/json"
            onChange={(e) => read(e.target.files?.[0])}
            className="file:mr-3 file:h-8 file:rounded-sm file:border file:border-edge file:bg-leaf file:px-3 file:font-semibold file:text-ink file:text-sm"
          />
        </label>
        {find.isPending && <Loading what="the hosts" />}
        {find.error && <ProblemNotice error={find.error} />}
        {find.data && (
          <table className="w-full border-collapse">
            <thead>
              <tr>
                <Head>
                  <span className="sr-only">Choose</span>
                </Head>
                <Head>Host</Head>
                <Head>Why</Head>
                <Head right>Requests</Head>
                <Head right>Failed</Head>
              </tr>
            </thead>
            <tbody>
              {find.data.companions.map((c) => (
                <tr key={c.host}>
                  <td className={cellClass}>
                    {!c.inList && (
                      <input
                        type="checkbox"
                        aria-label={`Add ${c.host}`}
                        checked={chosen.has(c.entry)}
                        onChange={() => toggle(c.entry)}
                        className="accent-reed"
                      />
                    )}
                  </td>
                  <td className={cellClass}>
                    <Mono>{c.host}</Mono>
                  </td>
                  <td className={`${cellClass} text-sm text-soft`}>
                    {c.inList ? 'in the list' : c.entry.split(' # ')[1]}
                  </td>
                  <td className={`${cellClass} text-right`}>{formatNumber(c.requests)}</td>
                  <td className={`${cellClass} text-right ${c.failed > 0 ? 'font-semibold text-clay' : ''}`}>
                    {formatNumber(c.failed)}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
        {add.error && <ProblemNotice error={add.error} />}
      </DialogBody>
      <DialogFoot>
        <span className="grow text-sm" role="status">
          {find.data &&
            (find.data.companions.every((c) => c.inList)
              ? 'The list lets all of them in.'
              : `The list lacks ${count(find.data.companions.filter((c) => !c.inList).length, 'host', 'hosts')}.`)}
        </span>
        <Button onClick={onClose}>Close</Button>
        <Button
          does="addEntries"
          look="main"
          disabled={chosen.size === 0 || add.isPending}
          onClick={() =>
            add.mutate([...chosen], {
              onSuccess: (report) => {
                announce(
                  `Added ${count(report.added, 'entry', 'entries')} to ${list.name}.`,
                  undo(report.list?.version),
                )
                onClose()
              },
            })
          }
        >
          Add {count(chosen.size, 'host', 'hosts')}
        </Button>
      </DialogFoot>
    </Dialog>
  )
}
