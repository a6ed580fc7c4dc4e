import { type FormEvent, useState } from 'react'
import { useSignIn } from '../session/sessionQueries'
import { Button } from '../ui/Button'
import { TextField } from '../ui/Field'
import { ProblemNotice } from '../ui/Notice'
import { NameHead } from './NameHead'

export function SignInPage() {
  const [name, setName] = useState('')
  const [password, setPassword] = useState('')
  const signIn = useSignIn()
  const submit = (event: FormEvent) => {
    event.preventDefault()
    signIn.mutate({ name, password })
  }
  return (
    <main className="mx-auto flex min-h-screen max-w-sm flex-col justify-center gap-6 px-6 pb-24">
      <NameHead />
      <form onSubmit={submit} className="flex flex-col gap-4 border-edge border-t pt-6">
        <TextField
          label="Name"
          name="name"
          autoComplete="username"
          autoFocus
          required
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <TextField
          label="Password"
          name="password"
          type="password"
          autoComplete="current-password"
          required
          value={password}
          onChange={(e) => setPassword(e.target.value)}
        />
        {signIn.error && <ProblemNotice error={signIn.error} />}
        <Button type="submit" look="main" disabled={signIn.isPending}>
          {signIn.isPending ? 'Signing in…' : 'Sign in'}
        </Button>
      </form>
    </main>
  )
}
