import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { api, data, type Schemas } from '../api/client'
import { Button } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { Dialog, DialogBody } from '../ui/Dialog'
import { TextField } from '../ui/Field'
import { ProblemNotice } from '../ui/Notice'

const sessionsKey = ['sessions']

/** The user's own account: password and sessions. */
export function AccountDialog({ onClose }: { onClose: () => void }) {
  return (
    <Dialog
      open
      onOpenChange={(open) => !open && onClose()}
      title="Your account"
      description="Another password ends all your other sessions."
    >
      <DialogBody>
        <Password />
        <Sessions />
      </DialogBody>
    </Dialog>
  )
}

function Password() {
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

function Sessions() {
  const client = useQueryClient()
  const sessions = useQuery({
    queryKey: sessionsKey,
    queryFn: async () => (await data(api.GET('/api/v1/sessions'))).sessions,
  })
  const end = useMutation({
    mutationFn: (id: string) => api.DELETE('/api/v1/sessions/{id}', { params: { path: { id } } }),
    onSettled: () => client.invalidateQueries({ queryKey: sessionsKey }),
  })
  return (
    <section aria-labelledby="where" className="flex flex-col gap-2 border-rule border-t pt-4">
      <h3 id="where" className="font-semibold text-sm">
        Where you are signed in
      </h3>
      {(sessions.error ?? end.error) && <ProblemNotice error={(sessions.error ?? end.error) as Error} />}
      <ul className="flex flex-col">
        {sessions.data?.map((one) => (
          <li key={one.id} className="flex items-center gap-3 border-rule border-b py-2 text-sm">
            <span className="min-w-0 grow">
              <span className="block">
                {one.address}, since {formatMoment(one.madeAt)}
              </span>
              <span className="block break-words text-soft text-xs">{one.agent}</span>
            </span>
            {one.this ? (
              <span className="shrink-0 text-soft">this one</span>
            ) : (
              <Button onClick={() => end.mutate(one.id)} disabled={end.isPending}>
                Sign out there
              </Button>
            )}
          </li>
        ))}
      </ul>
    </section>
  )
}
