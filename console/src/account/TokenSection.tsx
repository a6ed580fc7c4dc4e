import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { api, data, type Schemas } from '../api/client'
import { type RoleName, roleNames, roleSaid } from '../people/roles'
import { Button } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { Choice, TextField } from '../ui/Field'
import { Loading, ProblemNotice } from '../ui/Notice'
import { Section } from './Section'

const key = ['tokens']

const ends: [string, string][] = [
  ['30', 'in 30 days'],
  ['90', 'in 90 days'],
  ['365', 'in a year'],
  ['', 'never'],
]

const roleOptions: [string, string][] = [
  ['', 'as much as you'],
  ...roleNames.map(({ role }): [string, string] => [role, `no more than ${role}`]),
]

/** When a token ends that is made now. */
const endOf = (days: string) =>
  days === '' ? undefined : new Date(Date.now() + Number(days) * 24 * 3600 * 1000).toISOString()

/** The tokens of the user's programs: what each may do, when it was used, when it ends. */
export function TokenSection() {
  const client = useQueryClient()
  const tokens = useQuery({ queryKey: key, queryFn: async () => (await data(api.GET('/api/v1/tokens'))).tokens })
  const again = () => client.invalidateQueries({ queryKey: key })
  const [form, setForm] = useState({ name: '', role: '', days: '90' })
  const make = useMutation({
    mutationFn: () => {
      const roles = form.role === '' ? undefined : [{ role: form.role as RoleName }]
      return data(api.POST('/api/v1/tokens', { body: { name: form.name, roles, expiresAt: endOf(form.days) } }))
    },
    onSuccess: () => {
      setForm({ ...form, name: '' })
      return again()
    },
  })
  const take = useMutation({
    mutationFn: (id: string) => api.DELETE('/api/v1/tokens/{id}', { params: { path: { id } } }),
    onSettled: again,
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    make.mutate()
  }
  const problem = make.error ?? take.error ?? tokens.error
  return (
    <Section title="Tokens of your programs">
      {tokens.isPending && <Loading what="your tokens" />}
      <ul className="flex flex-col">
        {tokens.data?.map((one) => (
          <li key={one.id} className="flex items-center gap-3 border-rule border-b py-2 text-sm">
            <span className="min-w-0 grow">
              <span className="block">{one.name}</span>
              <span className="block text-soft text-xs">{tokenSaid(one)}</span>
            </span>
            <Button onClick={() => take.mutate(one.id)} disabled={take.isPending}>
              Take back
            </Button>
          </li>
        ))}
      </ul>
      {make.data && (
        <p role="status" className="break-all border-reed border-l-3 pl-3 text-sm">
          Copy this now; it is not shown again: <span className="font-mono">{make.data.secret}</span>
        </p>
      )}
      {problem && <ProblemNotice error={problem} />}
      <form onSubmit={submit} className="flex flex-col gap-2">
        <TextField
          label="New token, for"
          placeholder="nightly import"
          value={form.name}
          onChange={(e) => setForm({ ...form, name: e.target.value })}
        />
        <div className="grid grid-cols-2 gap-3">
          <Choice
            label="It may do"
            value={form.role}
            onChange={(role) => setForm({ ...form, role })}
            options={roleOptions}
          />
          <Choice label="It ends" value={form.days} onChange={(days) => setForm({ ...form, days })} options={ends} />
        </div>
        <Button type="submit" disabled={form.name.trim() === '' || make.isPending} className="self-start">
          Make the token
        </Button>
      </form>
    </Section>
  )
}

function tokenSaid({ roles, lastUsedAt, expiresAt }: Schemas['Token']) {
  const may = roles ? roles.map(roleSaid).join('; ') : 'as much as you'
  const used = lastUsedAt ? `last used ${formatMoment(lastUsedAt)}` : 'never used'
  return `May do ${may}; ${used}; ${expiresAt ? `ends ${formatMoment(expiresAt)}` : 'has no end'}`
}
