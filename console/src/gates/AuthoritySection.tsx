import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, buttonClass } from '../ui/Button'
import { formatMoment, instantOf } from '../ui/clock'
import { TextField } from '../ui/Field'
import { MomentField } from '../ui/MomentField'
import { Mono } from '../ui/Mono'
import { Loading, ProblemNotice } from '../ui/Notice'
import { SaveDialog } from '../ui/SaveDialog'
import { type Authority, authoritiesOptions, useMakeAuthority } from './gateQueries'

const stateNames: Record<Authority['state'], string> = {
  signs: 'signs now',
  next: 'comes next',
  past: 'signed before',
}

/** The authority in whose name gates open TLS connections, and its successor. */
export function AuthoritySection() {
  const found = useQuery(authoritiesOptions)
  const [making, setMaking] = useState(false)
  if (found.isPending) return <Loading what="the authority" />
  if (found.error) return <ProblemNotice error={found.error} retry={() => found.refetch()} />
  const toTrust = found.data.filter((a) => a.state !== 'past')
  return (
    <section aria-label="Authority">
      <div className="flex items-center gap-3 pb-1">
        <h2 className="font-semibold">Authority</h2>
        <span className="grow text-soft text-sm">
          In its name gates open TLS connections, as policies say. Clients must trust it.
        </span>
        {toTrust.length > 0 && (
          <a
            href={`data:application/x-pem-file,${encodeURIComponent(toTrust.map((a) => a.certificate).join(''))}`}
            download="authority.pem"
            className={buttonClass()}
          >
            Save as PEM
          </a>
        )}
        <Button does="makeAuthority" onClick={() => setMaking(true)}>
          {found.data.length === 0 ? 'Make an authority' : 'Successor'}
        </Button>
      </div>
      {found.data.length === 0 && (
        <p className="text-soft text-sm">
          There is none yet, so no gate opens connections: over https it sees the host.
        </p>
      )}
      <ul>
        {found.data.map((a) => (
          <li key={a.id} className="border-rule border-t py-1.5 text-sm">
            <span className="font-semibold">{a.name}</span>{' '}
            <span className="text-soft">
              {stateNames[a.state]}, from {formatMoment(a.from)} on; good until {formatMoment(a.notAfter)}; made by{' '}
              {a.madeBy}
            </span>
            <p className="break-all">
              <Mono>{a.fingerprint}</Mono>
            </p>
          </li>
        ))}
      </ul>
      {making && <AuthorityDialog first={found.data.length === 0} onClose={() => setMaking(false)} />}
    </section>
  )
}

function AuthorityDialog({ first, onClose }: { first: boolean; onClose: () => void }) {
  const [organisation, setOrganisation] = useState('')
  const [from, setFrom] = useState('')
  const make = useMakeAuthority()
  return (
    <SaveDialog
      title={first ? 'Make an authority' : 'Make a successor'}
      does="makeAuthority"
      description={
        first
          ? 'Clients have to trust it before connections are opened; hand its certificate out first.'
          : 'It is handed out beside the present one, and signs from the moment that you name on.'
      }
      action={first ? 'Make the authority' : 'Make the successor'}
      ready={organisation.trim() !== ''}
      save={() => make.mutateAsync({ organisation, from: from ? instantOf(from).toISOString() : undefined })}
      told={(made) => `Made ${made.name}; it signs from ${formatMoment(made.from)} on.`}
      onClose={onClose}
    >
      {(wrong) => (
        <>
          <TextField
            label="Organisation"
            hint="Clients show it as the name of the authority."
            value={organisation}
            onChange={(e) => setOrganisation(e.target.value)}
            error={wrong('organisation')}
          />
          {!first && <MomentField label="Signs from" value={from} onChange={setFrom} error={wrong('from')} />}
        </>
      )}
    </SaveDialog>
  )
}
