import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { type FormEvent, type ReactNode, useState } from 'react'
import { api, data, type Schemas } from '../api/client'
import { hasPasskeys, makePasskey } from '../session/passkeys'
import { Button } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { TextField } from '../ui/Field'
import { Loading, ProblemNotice } from '../ui/Notice'
import { Section } from './Section'

const key = ['factors']

/** Base64 as it stands in addresses. */
const inAddress = (id: string) => id.replaceAll('+', '-').replaceAll('/', '_').replace(/=+$/, '')

type Step = { what: 'codes' | 'noCodes' | 'passkey' } | { what: 'noPasskey'; passkey: Schemas['Passkey'] }

/** What the user signs in with besides the password: an app that makes codes, and passkeys. */
export function FactorSection() {
  const has = useQuery({ queryKey: key, queryFn: () => data(api.GET('/api/v1/session/factors')) })
  const [step, setStep] = useState<Step | null>(null)
  const close = () => setStep(null)
  if (has.isPending) return <Loading what="your second factors" />
  if (has.error) return <ProblemNotice error={has.error} />
  const { codes, passkeys } = has.data
  return (
    <Section title="Second factor">
      {!codes && passkeys.length === 0 && (
        <p className="text-soft text-sm">
          Your password alone opens your account. An app on your phone that makes codes, or a passkey, keeps out whoever
          learns it.
        </p>
      )}
      <ul className="flex flex-col">
        {codes && (
          <Line text="Codes of an app" note="Signing in wants one after the password.">
            <Button onClick={() => setStep({ what: 'noCodes' })}>Take down</Button>
          </Line>
        )}
        {passkeys.map((p) => (
          <Line
            key={p.id}
            text={`Passkey: ${p.name}`}
            note={`Added ${formatMoment(p.madeAt)}; ${p.usedAt ? `last used ${formatMoment(p.usedAt)}` : 'never used'}`}
          >
            <Button onClick={() => setStep({ what: 'noPasskey', passkey: p })}>Remove</Button>
          </Line>
        ))}
      </ul>
      {step === null && (
        <div className="flex gap-2">
          {!codes && <Button onClick={() => setStep({ what: 'codes' })}>Set up codes</Button>}
          {hasPasskeys() && <Button onClick={() => setStep({ what: 'passkey' })}>Add a passkey</Button>}
        </div>
      )}
      {step?.what === 'codes' && <CodesForm onClose={close} />}
      {step?.what === 'noCodes' && (
        <AgainForm
          action="Take the codes down"
          onClose={close}
          go={(password) => api.POST('/api/v1/session/codes/removal', { body: { password } })}
        />
      )}
      {step?.what === 'passkey' && <PasskeyForm onClose={close} />}
      {step?.what === 'noPasskey' && (
        <AgainForm
          action={`Remove ${step.passkey.name}`}
          onClose={close}
          go={(password) =>
            api.POST('/api/v1/session/passkeys/{id}/removal', {
              params: { path: { id: inAddress(step.passkey.id) } },
              body: { password },
            })
          }
        />
      )}
    </Section>
  )
}

function Line({ text, note, children }: { text: string; note: string; children: ReactNode }) {
  return (
    <li className="flex items-center gap-3 border-rule border-b py-2 text-sm">
      <span className="min-w-0 grow">
        <span className="block">{text}</span>
        <span className="block text-soft text-xs">{note}</span>
      </span>
      {children}
    </li>
  )
}

type FormProps = {
  action: string
  onClose: () => void
  go: (password: string) => Promise<unknown>
  children?: ReactNode
  /** Called instead of closing the form. */
  then?: () => void
}

/** A form that asks for the password once more, before what only the user may do. */
function AgainForm({ action, onClose, go, children, then }: FormProps) {
  const client = useQueryClient()
  const [password, setPassword] = useState('')
  const run = useMutation({
    mutationFn: go,
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: key })
      if (then) then()
      else onClose()
    },
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    run.mutate(password)
  }
  return (
    <form onSubmit={submit} className="flex flex-col gap-3 border-rule border-l-3 pl-3">
      {children}
      <TextField
        label="Your password, once more"
        type="password"
        autoComplete="current-password"
        autoFocus
        value={password}
        onChange={(e) => setPassword(e.target.value)}
      />
      {run.error && <ProblemNotice error={run.error} />}
      <Buttons action={action} ready={password !== '' && !run.isPending} onClose={onClose} />
    </form>
  )
}

function Buttons({ action, ready, onClose }: { action: string; ready: boolean; onClose: () => void }) {
  return (
    <div className="flex gap-2">
      <Button type="submit" look="main" disabled={!ready}>
        {action}
      </Button>
      <Button onClick={onClose}>Cancel</Button>
    </div>
  )
}

function PasskeyForm({ onClose }: { onClose: () => void }) {
  const [name, setName] = useState('This device')
  return (
    <AgainForm
      action="Add the passkey"
      onClose={onClose}
      go={async (password) => {
        const { options, kept } = await data(api.POST('/api/v1/session/passkeys/challenge', { body: { password } }))
        const answer = await makePasskey(options)
        await api.POST('/api/v1/session/passkeys', { body: { name: name.trim() || 'Passkey', kept, answer } })
      }}
    >
      <TextField label="What the device is called" value={name} onChange={(e) => setName(e.target.value)} />
    </AgainForm>
  )
}

function CodesForm({ onClose }: { onClose: () => void }) {
  const client = useQueryClient()
  const [made, setMade] = useState<Schemas['GeneratorOutputBody'] | null>(null)
  const [code, setCode] = useState('')
  const confirm = useMutation({
    mutationFn: () => api.PUT('/api/v1/session/codes', { body: { code } }),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: key })
      onClose()
    },
  })
  if (!made) {
    return (
      <AgainForm
        action="Go on"
        onClose={onClose}
        then={() => undefined}
        go={async (password) => setMade(await data(api.POST('/api/v1/session/codes', { body: { password } })))}
      />
    )
  }
  const submit = (event: FormEvent) => {
    event.preventDefault()
    confirm.mutate()
  }
  return (
    <form onSubmit={submit} className="flex flex-col gap-3 border-rule border-l-3 pl-3">
      <p className="text-sm">
        Photograph this with the app, or type the letters below it; then type the code that the app shows.
      </p>
      <img src={made.picture} alt="The secret for the app, which also stands below" className="size-40 self-start" />
      <p className="break-all font-mono text-sm">{made.secret}</p>
      <TextField
        label="Code"
        autoComplete="one-time-code"
        inputMode="numeric"
        autoFocus
        value={code}
        onChange={(e) => setCode(e.target.value)}
      />
      {confirm.error && <ProblemNotice error={confirm.error} />}
      <Buttons action="Confirm" ready={code.trim() !== '' && !confirm.isPending} onClose={onClose} />
    </form>
  )
}
