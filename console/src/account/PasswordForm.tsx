import { useMutation, useQueryClient } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { api, type Schemas } from '../api/client'
import { Button } from '../ui/Button'
import { TextField } from '../ui/Field'
import { ProblemNotice } from '../ui/Notice'
import { sessionsKey } from './SessionSection'

/** Another password for the user's own account. */
export function PasswordForm() {
  const client = useQueryClient()
  const [present, setPresent] = useState('')
  const [password, setPassword] = useState('')
  const change = useMutation({
    mutationFn: (body: Schemas['OwnPasswordInputBody']) => api.PUT('/api/v1/session/password', { body }),
    onSuccess: () => {
      setPresent('')
      setPassword('')
      return client.invalidateQueries({ queryKey: sessionsKey })
    },
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    change.mutate({ present, password })
  }
  return (
    <form onSubmit={submit} className="flex flex-col gap-3">
      <TextField
        label="Present password"
        type="password"
        autoComplete="current-password"
        value={present}
        onChange={(e) => setPresent(e.target.value)}
      />
      <TextField
        label="New password"
        type="password"
        autoComplete="new-password"
        hint="Eight characters at least; several words that have nothing to do with each other are best."
        value={password}
        onChange={(e) => setPassword(e.target.value)}
      />
      {change.error && <ProblemNotice error={change.error} />}
      {change.isSuccess && <p role="status">Your password is changed.</p>}
      <Button type="submit" disabled={present === '' || password === '' || change.isPending} className="self-start">
        Change it
      </Button>
    </form>
  )
}
