import { type FormEvent, useState } from 'react'
import { useMakeFirstOwner } from '../session/sessionQueries'
import { Button } from '../ui/Button'
import { TextField } from '../ui/Field'
import { fieldProblems } from '../ui/fieldProblems'
import { Outside } from './SignInPage'

/** The page at which the first owner makes an account. The secret stands behind the # of the address, which browsers send nowhere. */
export function WelcomePage({ secret }: { secret: string }) {
  const [form, setForm] = useState({ name: '', fullName: '', password: '' })
  const make = useMakeFirstOwner()
  const { wrong, others } = fieldProblems(make.error)
  const submit = (event: FormEvent) => {
    event.preventDefault()
    make.mutate({ secret, ...form, fullName: form.fullName || undefined })
  }
  return (
    <Outside>
      <form onSubmit={submit} className="flex flex-col gap-4 border-edge border-t pt-6">
        <p>Make your account. It is the first one, and an owner’s: it may do everything, and gives others theirs.</p>
        <TextField
          label="You sign in as"
          name="name"
          autoComplete="username"
          autoFocus
          required
          hint="One word."
          value={form.name}
          onChange={(e) => setForm({ ...form, name: e.target.value })}
          error={wrong('name')}
        />
        <TextField
          label="Your name"
          autoComplete="name"
          value={form.fullName}
          onChange={(e) => setForm({ ...form, fullName: e.target.value })}
          error={wrong('fullName')}
        />
        <TextField
          label="Password"
          type="password"
          autoComplete="new-password"
          required
          hint="Eight characters at least; several words that have nothing to do with each other are best."
          value={form.password}
          onChange={(e) => setForm({ ...form, password: e.target.value })}
          error={wrong('password')}
        />
        {others()}
        <Button type="submit" look="main" disabled={make.isPending}>
          Make the account
        </Button>
      </form>
    </Outside>
  )
}
