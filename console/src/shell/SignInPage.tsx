import { useQuery } from '@tanstack/react-query'
import { type FormEvent, type ReactNode, useState } from 'react'
import { ApiProblem } from '../api/client'
import { hasPasskeys } from '../session/passkeys'
import { useLeaveForProvider, usePasskeySignIn, useSignIn, waysInOptions } from '../session/sessionQueries'
import { Button } from '../ui/Button'
import { TextField } from '../ui/Field'
import { ProblemNotice } from '../ui/Notice'
import { NameHead } from './NameHead'

/** The frame of the pages of whoever is not signed in. */
export function Outside({ children }: { children: ReactNode }) {
  return (
    <main className="mx-auto flex min-h-screen max-w-sm flex-col justify-center gap-6 px-6 pb-24">
      <NameHead />
      {children}
    </main>
  )
}

const wantsCode = '/problems/code-wanted'

/** `failed` is why a sign-in elsewhere has failed. */
export function SignInPage({ failed }: { failed?: Error | undefined }) {
  const [name, setName] = useState('')
  const [password, setPassword] = useState('')
  const [code, setCode] = useState('')
  const ways = useQuery(waysInOptions)
  const signIn = useSignIn()
  const passkey = usePasskeySignIn()
  const leave = useLeaveForProvider()
  const submit = (event: FormEvent) => {
    event.preventDefault()
    passkey.reset()
    signIn.mutate({ name, password, code: code || undefined })
  }
  const byCode = signIn.error instanceof ApiProblem && signIn.error.type === wantsCode
  const problem = signIn.error ?? passkey.error ?? leave.error ?? failed
  return (
    <Outside>
      {ways.data?.unowned && (
        <p className="border-ochre border-l-3 pl-3">
          Nobody has an account yet. When it started, the service printed an address at which the first owner makes one.
        </p>
      )}
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
        {(byCode || code !== '') && (
          <TextField
            label="Code"
            name="code"
            autoComplete="one-time-code"
            inputMode="numeric"
            autoFocus
            hint="The six digits that your app shows."
            value={code}
            onChange={(e) => setCode(e.target.value)}
          />
        )}
        {problem &&
          (byCode && code === '' ? <p role="status">{problem.message}</p> : <ProblemNotice error={problem} />)}
        <Button type="submit" look="main" disabled={signIn.isPending}>
          {signIn.isPending ? 'Signing in…' : 'Sign in'}
        </Button>
        {(ways.data?.provider || hasPasskeys()) && (
          <div className="flex flex-col gap-2 border-rule border-t pt-4">
            {ways.data?.provider && (
              <Button onClick={() => leave.mutate()} disabled={leave.isPending}>
                Sign in at {ways.data.provider}
              </Button>
            )}
            {hasPasskeys() && (
              <Button
                onClick={() => {
                  signIn.reset()
                  passkey.mutate(undefined)
                }}
                disabled={passkey.isPending}
              >
                Sign in with a passkey
              </Button>
            )}
          </div>
        )}
      </form>
    </Outside>
  )
}
