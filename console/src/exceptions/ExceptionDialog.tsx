import { useState } from 'react'
import { type Place, PlaceChoice } from '../places/PlaceChoice'
import { instantOf, wallClock } from '../ui/clock'
import { Choice, TextArea, TextField } from '../ui/Field'
import { MomentField } from '../ui/MomentField'
import { SaveDialog } from '../ui/SaveDialog'
import { type Exception, type ExceptionInput, useSaveException } from './exceptionQueries'
import { endCovering, ends, linesOf } from './standing'
import { WhomFields } from './WhomFields'

type Props = {
  /** The first values of the form: from a trial, from a lookup, or empty. */
  begin?: Partial<ExceptionInput>
  exception?: Exception
  /** A moment that the exception must include: the first offered end is after it. */
  covers?: string
  /** Narrower and wider forms of the entry to choose from. */
  places?: Place[]
  onClose: () => void
}

type End = 'today' | 'week' | 'month' | 'never' | 'moment'

/** Creates or edits an exception: what, for whom, until when, and why. */
export function ExceptionDialog({ begin, exception, covers, places, onClose }: Props) {
  const from = exception ?? begin
  const [entries, setEntries] = useState((from?.entries ?? []).join('\n'))
  const [then, setThen] = useState<'allow' | 'block'>(from?.then ?? 'allow')
  const [whom, setWhom] = useState(from?.for ?? {})
  const [name, setName] = useState(exception?.name ?? '')
  const [reason, setReason] = useState(from?.reason ?? '')
  const [by, setBy] = useState(from?.requestedBy ?? '')
  const [end, setEnd] = useState<End>(exception ? (exception.until ? 'moment' : 'never') : endCovering(covers))
  const [moment, setMoment] = useState(exception?.until ? wallClock(new Date(exception.until)) : wallClock(ends().week))
  const [begins, setBegins] = useState(exception?.from ? wallClock(new Date(exception.from)) : '')
  const save = useSaveException(exception)
  const until = () => {
    if (end === 'never') return undefined
    return (end === 'moment' ? instantOf(moment) : ends()[end]).toISOString()
  }
  const submit = () => {
    const body: ExceptionInput = {
      name: name.trim() || undefined,
      entries: linesOf(entries),
      then,
      for: whom,
      reason,
      requestedBy: by || undefined,
      from: begins ? instantOf(begins).toISOString() : undefined,
      until: until(),
      off: exception?.off,
    }
    return save.mutateAsync(body)
  }
  return (
    <SaveDialog
      title={exception ? `Exception: ${exception.name}` : 'New exception'}
      does="putException"
      description="It counts before policies and after the baseline: for a person first, then a network, a group, everybody."
      wide
      action={exception ? 'Save' : then === 'allow' ? 'Allow it' : 'Block it'}
      ready={entries.trim() !== '' && reason.trim() !== ''}
      save={submit}
      told={(saved) => `The exception ${saved.name} is ${saved.state}.`}
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
                autoFocus={!from}
                spellCheck={false}
                value={entries}
                onChange={(e) => setEntries(e.target.value)}
                error={wrong('entries')}
              />
              <Choice
                label="What becomes of them"
                value={then}
                onChange={(v) => setThen(v as 'allow' | 'block')}
                options={[
                  ['allow', 'Allow'],
                  ['block', 'Block'],
                ]}
              />
              <TextField
                label="Reason"
                value={reason}
                onChange={(e) => setReason(e.target.value)}
                placeholder="Why, for whoever looks at it later"
                error={wrong('reason')}
                autoFocus={entries !== ''}
              />
              <TextField
                label="Requested by"
                value={by}
                onChange={(e) => setBy(e.target.value)}
                placeholder="may stay empty"
              />
              <TextField
                label="Name"
                value={name}
                onChange={(e) => setName(e.target.value)}
                placeholder="made from the first entry"
                error={wrong('name')}
              />
            </div>
            <div className="flex flex-col gap-4">
              <WhomFields whom={whom} onChange={setWhom} wrong={wrong} />
              <Choice
                label="Until"
                value={end}
                onChange={(v) => setEnd(v as End)}
                options={[
                  ['today', 'The end of today'],
                  ['week', 'The end of this week'],
                  ['month', 'Thirty days from now'],
                  ['moment', 'A moment…'],
                  ['never', 'No end'],
                ]}
              />
              {end === 'moment' && (
                <MomentField label="The moment" required value={moment} onChange={setMoment} error={wrong('until')} />
              )}
              <MomentField
                label="From"
                value={begins}
                onChange={setBegins}
                hint="Empty: at once."
                error={wrong('from')}
              />
            </div>
          </div>
        </>
      )}
    </SaveDialog>
  )
}
