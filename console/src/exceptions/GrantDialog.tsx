import { useState } from 'react'
import { type Place, PlaceChoice } from '../places/PlaceChoice'
import { formatEnd, instantOf, wallClock } from '../ui/clock'
import { Choice, TextArea, TextField } from '../ui/Field'
import { MomentField } from '../ui/MomentField'
import { SaveDialog } from '../ui/SaveDialog'
import type { Exception } from './exceptionQueries'
import { useGrant } from './grantQueries'
import { ends, linesOf } from './standing'
import { WhomFields } from './WhomFields'

type Props = {
  /** The first values of the form: from a trial, or empty. */
  begin?: { entries: string[]; for: Exception['for'] }
  /** Narrower and wider forms of the entry to choose from. */
  places?: Place[]
  onClose: () => void
}

type End = '1' | '2' | 'today' | 'week' | 'moment'

/** Creates a grant: it allows something at once and for some time, without publishing. */
export function GrantDialog({ begin, places, onClose }: Props) {
  const [entries, setEntries] = useState((begin?.entries ?? []).join('\n'))
  const [whom, setWhom] = useState(begin?.for ?? {})
  const [reason, setReason] = useState('')
  const [by, setBy] = useState('')
  const [end, setEnd] = useState<End>('2')
  const [moment, setMoment] = useState(wallClock(ends().today))
  const grant = useGrant()
  const until = () => {
    if (end === '1' || end === '2') return new Date(Date.now() + Number(end) * 3600e3)
    return end === 'moment' ? instantOf(moment) : ends()[end]
  }
  const submit = () => {
    const body = {
      entries: linesOf(entries),
      for: whom,
      reason,
      requestedBy: by || undefined,
      until: until().toISOString(),
    }
    return grant.mutateAsync(body)
  }
  return (
    <SaveDialog
      title="Grant"
      does="addGrant"
      description="It holds at once, without publishing, counts as an exception does, and ends by itself. The baseline stands before it."
      wide
      action="Allow it now"
      ready={entries.trim() !== '' && reason.trim() !== ''}
      save={submit}
      told={(made) => `${made.entries.join(', ')} is allowed now, ${formatEnd(made.until)}.`}
      onClose={onClose}
    >
      {(wrong) => (
        <>
          <div className="grid grid-cols-2 gap-6">
            <div className="flex flex-col gap-4">
              {places && places.length > 1 && (
                <PlaceChoice label="How much" places={places} chosen={entries} onChange={setEntries} />
              )}
              <TextArea
                label="Entries, one a line"
                rows={3}
                autoFocus={!begin}
                spellCheck={false}
                value={entries}
                onChange={(e) => setEntries(e.target.value)}
                error={wrong('entries')}
              />
              <TextField
                label="Reason"
                value={reason}
                onChange={(e) => setReason(e.target.value)}
                placeholder="Why, for whoever looks at it later"
                error={wrong('reason')}
                autoFocus={begin !== undefined}
              />
              <TextField
                label="Requested by"
                value={by}
                onChange={(e) => setBy(e.target.value)}
                placeholder="may stay empty"
              />
            </div>
            <div className="flex flex-col gap-4">
              <WhomFields whom={whom} onChange={setWhom} wrong={wrong} />
              <Choice
                label="Until"
                value={end}
                onChange={(v) => setEnd(v as End)}
                options={[
                  ['1', 'An hour from now'],
                  ['2', 'Two hours from now'],
                  ['today', 'The end of today'],
                  ['week', 'The end of this week'],
                  ['moment', 'A moment…'],
                ]}
              />
              {end === 'moment' && (
                <MomentField
                  label="The moment"
                  required
                  hint="Within 90 days."
                  value={moment}
                  onChange={setMoment}
                  error={wrong('until')}
                />
              )}
            </div>
          </div>
        </>
      )}
    </SaveDialog>
  )
}
