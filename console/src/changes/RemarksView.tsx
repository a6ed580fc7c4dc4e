import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { May, useMay } from '../may/may'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { Choice, TextArea } from '../ui/Field'
import { ProblemNotice } from '../ui/Notice'
import { remarksOptions, useAddRemark, useEndRemark } from './changeQueries'

/** What people say of the draft to each other, and whom they ask to look before it goes live. */
export function RemarksView() {
  const found = useQuery(remarksOptions)
  const may = useMay()
  const add = useAddRemark()
  const end = useEndRemark()
  const announce = useAnnounce()
  const [text, setText] = useState('')
  const [asks, setAsks] = useState('')
  const open = (found.data?.remarks ?? []).filter((r) => !r.doneAt)
  const error = found.error ?? add.error ?? end.error
  return (
    <section className="flex flex-col gap-2">
      <h2 className="font-semibold text-lg">What is said of it</h2>
      {error && <ProblemNotice error={error} />}
      {open.length === 0 && !may('addRemark') && <p className="text-soft">Nothing yet.</p>}
      <ul className="flex flex-col">
        {open.map((r) => (
          <li key={r.id} className="flex items-start gap-3 border-rule border-t py-2">
            <div className="min-w-0 grow">
              <p className="break-words">{r.text}</p>
              <p className="text-sm text-soft">
                {r.by}, {formatMoment(r.at)}
                {r.object && `, of ${r.object.name}`}
                {r.asks && (
                  <>
                    , asks <span className="text-ink">{r.asks}</span> to look
                  </>
                )}
              </p>
            </div>
            <Button
              look="quiet"
              does="endRemark"
              aria-label={`Seen to: ${r.text}`}
              onClick={() => afterwards(end.mutateAsync(r.id), () => announce('Seen to.'))}
            >
              Seen to
            </Button>
          </li>
        ))}
      </ul>
      <May does="addRemark">
        <form
          className="flex flex-col items-start gap-2"
          onSubmit={(e) => {
            e.preventDefault()
            afterwards(add.mutateAsync({ text, asks: asks || undefined }), (made) => {
              setText('')
              setAsks('')
              announce(made.asks ? `${made.asks} is asked to look.` : 'Said.')
            })
          }}
        >
          <TextArea
            className="font-sans"
            label="A remark"
            rows={2}
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
          <div className="flex items-end gap-3">
            <Choice
              label="Ask to look"
              value={asks}
              onChange={setAsks}
              options={[
                ['', 'nobody in particular'],
                ...(found.data?.canLook ?? []).map((l): [string, string] => [l.name, l.fullName || l.name]),
              ]}
            />
            <Button type="submit" className="h-9!" disabled={text.trim() === '' || add.isPending}>
              Say it
            </Button>
          </div>
        </form>
      </May>
    </section>
  )
}
