import { useState } from 'react'
import { formatMoment } from '../ui/clock'
import { Choice, TextField } from '../ui/Field'
import { SaveDialog } from '../ui/SaveDialog'
import { type Enrolment, useEnrolGate } from './gateQueries'

type Props = { onMade: (made: Enrolment) => void; onClose: () => void }

/** Makes a code with which one gate on another machine enrols, once. */
export function EnrolDialog({ onMade, onClose }: Props) {
  const [name, setName] = useState('')
  const [kind, setKind] = useState<'proxy' | 'dns' | 'icap'>('proxy')
  const enrol = useEnrolGate()
  return (
    <SaveDialog
      title="Enrol a gate"
      does="enrolGate"
      description="A gate on another machine enrols with a code, once. It then fetches what is live, and decides by it also while the service is away."
      action="Make the code"
      ready={name.trim() !== ''}
      save={async () => {
        const made = await enrol.mutateAsync({ name, kind })
        onMade(made)
        return made
      }}
      told={(made) => `${made.name} can enrol until ${formatMoment(made.until)}.`}
      onClose={onClose}
    >
      {(wrong) => (
        <>
          <TextField
            label="Name"
            hint="Lists and records call the gate by it, as: proxy in the annexe."
            value={name}
            onChange={(e) => setName(e.target.value)}
            error={wrong('name')}
          />
          <Choice
            label="It is"
            value={kind}
            onChange={(k) => setKind(k as typeof kind)}
            options={[
              ['proxy', 'a proxy gate'],
              ['dns', 'a DNS gate'],
              ['icap', 'an ICAP gate'],
            ]}
          />
        </>
      )}
    </SaveDialog>
  )
}

/** The code that was just made, in the command that uses it. */
export function NewEnrolment({ enrolment }: { enrolment: Enrolment }) {
  return (
    <section aria-label="The new enrolment" className="border-reed border-l-4 bg-reed-wash px-4 py-3">
      <p>
        On the machine of {enrolment.name}, until {formatMoment(enrolment.until)}:
      </p>
      <p className="mono break-all py-1">
        widelarkd gate --folder /var/lib/widelark/gate --service {window.location.origin} --enrol {enrolment.code}
        {enrolment.kind === 'dns' && ' --dns-forward RESOLVER'}
      </p>
      <p>The code is not shown again.</p>
    </section>
  )
}
