import { Minus, MoveVertical, Pencil, Plus } from 'lucide-react'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { Mono } from '../ui/Mono'
import { ProblemNotice } from '../ui/Notice'
import { type ObjectDifference, useDiscard } from './changeQueries'

const marks = {
  added: { icon: Plus, ink: 'text-reed', word: 'added' },
  made: { icon: Plus, ink: 'text-reed', word: 'made' },
  removed: { icon: Minus, ink: 'text-clay', word: 'removed' },
  changed: { icon: Pencil, ink: 'text-ochre', word: 'changed' },
  moved: { icon: MoveVertical, ink: 'text-tide', word: 'moved' },
}

function Mark({ of }: { of: keyof typeof marks }) {
  const { icon: Icon, ink, word } = marks[of]
  return (
    <span className={`mt-1 shrink-0 ${ink}`}>
      <Icon size={13} aria-hidden />
      <span className="sr-only">{word}</span>
    </span>
  )
}

type Props = {
  changes: ObjectDifference[]
  /** The version of the draft that the differences lead to; undefined if they cannot be discarded. */
  version?: number
  /** The ids of the objects that are to go live without the others. */
  chosen?: string[]
  /** Absent where nothing is chosen here. */
  onChoose?: (ids: string[]) => void
}

/** Differences in the terms of the objects: entries added, rules moved. */
export function DifferenceList({ changes, version, chosen = [], onChoose }: Props) {
  const discard = useDiscard()
  const announce = useAnnounce()
  return (
    <>
      {discard.error && <ProblemNotice error={discard.error} />}
      <ul className="flex flex-col">
        {changes.map((c) => (
          <li key={c.id} className="flex items-start gap-3 border-rule border-t py-2">
            {onChoose && changes.length > 1 && (
              <input
                type="checkbox"
                aria-label={`Publish ${c.name} without the others`}
                title="Publish it without the others"
                checked={chosen.includes(c.id)}
                onChange={(e) => onChoose(e.target.checked ? [...chosen, c.id] : chosen.filter((id) => id !== c.id))}
                className="mt-1.5 accent-reed"
              />
            )}
            <Mark of={c.what} />
            <div className="min-w-0 grow">
              <p>
                <span className="text-soft">{c.kind}</span> <span className="font-semibold">{c.name}</span>{' '}
                <span className="text-sm text-soft">
                  {c.by.join(', ')}, {formatMoment(c.at)}
                </span>
              </p>
              <ul>
                {c.lines
                  .filter((l) => c.what === 'changed' || l.part !== 'name')
                  .map((l) => (
                    <li
                      key={`${l.mark} ${l.part} ${l.before} ${l.after}`}
                      className="flex items-baseline gap-2 pl-1 text-sm"
                    >
                      <Mark of={l.mark} />
                      <span>
                        <span className="text-soft">{l.part}</span> {l.before}
                        {l.before && l.after && <span className="text-soft"> → </span>}
                        {l.after}
                      </span>
                    </li>
                  ))}
                {c.entries?.first.map((e) => (
                  <li key={e.id} className="flex items-baseline gap-2 pl-1 text-sm">
                    <Mark of={!e.before ? 'added' : !e.after ? 'removed' : 'changed'} />
                    <span>
                      {e.before && <Mono>{e.before}</Mono>}
                      {e.before && e.after && <span className="text-soft"> → </span>}
                      {e.after && <Mono>{e.after}</Mono>}
                    </span>
                  </li>
                ))}
                {c.entries && more(c.entries) > 0 && (
                  <li className="pl-6 text-sm text-soft">and {more(c.entries).toLocaleString('en-GB')} more entries</li>
                )}
              </ul>
            </div>
            {version && (
              <Button
                look="quiet"
                does="discard"
                aria-label={`Discard the change of ${c.name}`}
                disabled={discard.isPending}
                onClick={() =>
                  afterwards(discard.mutateAsync({ version, objects: [c.id] }), () =>
                    announce(`${c.name} is what is live again.`),
                  )
                }
              >
                Discard
              </Button>
            )}
          </li>
        ))}
      </ul>
    </>
  )
}

const more = (e: NonNullable<ObjectDifference['entries']>) => e.added + e.edited + e.removed - e.first.length
