import { useState } from 'react'
import type { Schemas } from '../api/client'
import { May, useMay } from '../may/may'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { formatMoment, instantOf } from '../ui/clock'
import { Check, TextArea } from '../ui/Field'
import { count } from '../ui/format'
import { MomentField } from '../ui/MomentField'
import { ProblemNotice } from '../ui/Notice'
import { useDiscard, usePublish, usePutPractices, useUnplan } from './changeQueries'

type Props = {
  draft: Schemas['DraftOutputBody']
  changed: boolean
  version: number
  /** The ids of the objects that go live without the others; none for the whole draft. */
  chosen: string[]
  onPublished: () => void
}

/** Publishes the draft, now or later: with a note and, if an expectation fails, with a reason. */
export function PublishBox({ draft, changed, version, chosen, onPublished }: Props) {
  const may = useMay()
  const publish = usePublish()
  const discard = useDiscard()
  const unplan = useUnplan()
  const practices = usePutPractices()
  const announce = useAnnounce()
  const [note, setNote] = useState('')
  const [force, setForce] = useState('')
  const [at, setAt] = useState('')
  const failing = draft.failing > 0
  const error = publish.error ?? discard.error ?? unplan.error ?? practices.error
  return (
    <aside
      aria-label="Publish"
      className="sticky top-4 flex flex-col gap-4 self-start border-rule border-l pl-6 max-[75rem]:border-l-0 max-[75rem]:pl-0"
    >
      {changed && may('publish') && (
        <form
          className="flex flex-col gap-3"
          onSubmit={(e) => {
            e.preventDefault()
            const due = at && chosen.length === 0 ? instantOf(at).toISOString() : undefined
            afterwards(
              publish.mutateAsync({
                version,
                note,
                force: (failing && force) || undefined,
                at: due,
                objects: chosen.length > 0 ? chosen : undefined,
              }),
              (made) => {
                onPublished()
                setNote('')
                setForce('')
                setAt('')
                announce(
                  made.revision
                    ? `Revision ${made.revision.number} is live${made.objects ? `, with ${made.objects.map((o) => o.name).join(', ')}` : ''}.`
                    : `It goes live on ${formatMoment(made.planned?.due ?? '')}.`,
                )
              },
            )
          }}
        >
          <h2 className="font-semibold text-lg">Put it live</h2>
          <TextArea
            className="font-sans"
            label="What is it for?"
            rows={3}
            value={note}
            onChange={(e) => setNote(e.target.value)}
            placeholder="So that somebody else can find it"
          />
          {failing && (
            <TextArea
              className="font-sans"
              label={
                chosen.length > 0
                  ? 'If expectations fail with these alone: why do they go live all the same?'
                  : `${draft.failing} of ${draft.expected} expectations fail. Why does it go live all the same?`
              }
              hint="It is kept with the revision. Better: mend them first."
              rows={2}
              value={force}
              onChange={(e) => setForce(e.target.value)}
            />
          )}
          {chosen.length === 0 && <MomentField label="When" value={at} onChange={setAt} hint="Left empty: now." />}
          {chosen.length > 0 && (
            <p className="text-sm">
              Only {count(chosen.length, 'chosen object goes', 'chosen objects go')} live, with what{' '}
              {chosen.length === 1 ? 'it hangs' : 'they hang'} on. The rest stays the draft.
            </p>
          )}
          <Button
            type="submit"
            look="main"
            disabled={
              publish.isPending || note.trim() === '' || (failing && chosen.length === 0 && force.trim() === '')
            }
          >
            {at && chosen.length === 0
              ? 'Plan it'
              : failing && chosen.length === 0
                ? 'Publish all the same'
                : 'Publish'}
          </Button>
          {draft.secondLook && <p className="text-sm">What you edited alone has to be published by somebody else.</p>}
          <p className="text-sm text-soft">It becomes revision {draft.live.number + 1}. One step takes it back.</p>
        </form>
      )}
      {error && <ProblemNotice error={error} />}
      {draft.planned.length > 0 && (
        <section>
          <h2 className="font-semibold">Planned</h2>
          <ul>
            {draft.planned.map((p) => (
              <li key={p.id} className="flex items-start gap-2 border-rule border-t py-2 text-sm">
                <span className="grow">
                  {formatMoment(p.due)}: {p.note} <span className="text-soft">{p.by}</span>
                </span>
                <Button
                  look="quiet"
                  does="unplan"
                  onClick={() => afterwards(unplan.mutateAsync(p.id), () => announce('It is not planned any more.'))}
                >
                  Call off
                </Button>
              </li>
            ))}
          </ul>
        </section>
      )}
      <May does="putPractices">
        <Check
          label="What one person edited alone is published by another"
          checked={practices.isPending ? practices.variables : draft.secondLook}
          onChange={(on) =>
            afterwards(practices.mutateAsync(on), () =>
              announce(on ? 'Two people see each change from now on.' : 'One person is enough to publish.'),
            )
          }
        />
      </May>
      {changed && (
        <Button
          look="danger"
          does="discard"
          disabled={discard.isPending}
          onClick={() =>
            afterwards(discard.mutateAsync({ version }), () => announce('The draft is what is live again.'))
          }
        >
          Discard all changes
        </Button>
      )}
    </aside>
  )
}
