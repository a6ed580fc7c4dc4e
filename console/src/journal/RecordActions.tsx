import { useState } from 'react'
import { AddToListDialog } from '../categories/AddToListDialog'
import { CorrectDialog } from '../categories/CorrectDialog'
import { useAddExpectation } from '../changes/changeQueries'
import { ExceptionDialog } from '../exceptions/ExceptionDialog'
import { GrantDialog } from '../exceptions/GrantDialog'
import { type Does, useAsked, useMay } from '../may/may'
import { peopleOptions } from '../people/peopleQueries'
import { placesOf } from '../places/places'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { buttonClass } from '../ui/Button'
import { ProblemNotice } from '../ui/Notice'
import type { JournalRecord } from './journalQueries'

type What = 'grant' | 'exception' | 'correct' | 'list'

/** What can be done about a record in one step: each of it begins with the narrowest entry for its URL, for whoever asked. */
export function RecordActions({ record: r }: { record: JournalRecord }) {
  const [open, setOpen] = useState<What | null>(null)
  const expect = useAddExpectation()
  const announce = useAnnounce()
  const may = useMay()
  const found = useAsked('getPeople', { ...peopleOptions(r.who ?? ''), enabled: r.who !== undefined })
  const person = found.data?.items.find((p) => p.fullName === r.who || p.name === r.who)
  const places = placesOf(r.url)
  const passes = r.verdict === 'allow' || r.verdict === 'watch'
  const ref = person && { id: person.id, name: person.fullName || person.name }
  const whom = ref ? { persons: [ref] } : {}
  const begin = { entries: [places[0]?.entry ?? ''], for: whom }
  const button = (label: string, does: Does, act: () => void) =>
    may(does, { people: does === 'addGrant' }) && (
      <button type="button" className={`${buttonClass()} h-7! px-2!`} onClick={act}>
        {label}
      </button>
    )
  const close = () => setOpen(null)
  return (
    <div className="flex flex-wrap gap-2 pb-3 text-sm">
      {!passes && button('Allow now…', 'addGrant', () => setOpen('grant'))}
      {button(passes ? 'Block…' : 'Allow…', 'addException', () => setOpen('exception'))}
      {button('Correct…', 'correct', () => setOpen('correct'))}
      {button('Add to a list…', 'addEntries', () => setOpen('list'))}
      {button('Expect this', 'addExpectation', () =>
        afterwards(
          expect.mutateAsync({
            urls: [r.url],
            person: ref,
            address: ref ? undefined : r.address,
            sight: r.sight === 'full' ? undefined : r.sight,
            verdict: r.verdict,
          }),
          (made) => announce(`Expected from now on: ${made.name}.`),
        ),
      )}
      {expect.error && <ProblemNotice error={expect.error} />}
      {open === 'grant' && <GrantDialog begin={begin} places={places} onClose={close} />}
      {open === 'exception' && (
        <ExceptionDialog begin={{ ...begin, then: passes ? 'block' : 'allow' }} places={places} onClose={close} />
      )}
      {open === 'correct' && <CorrectDialog places={places} onClose={close} />}
      {open === 'list' && <AddToListDialog places={places} onClose={close} />}
    </div>
  )
}
