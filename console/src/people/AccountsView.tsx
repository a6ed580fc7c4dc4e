import { useQuery } from '@tanstack/react-query'
import { Plus } from 'lucide-react'
import { useState } from 'react'
import { useMay } from '../may/may'
import { meOptions } from '../session/sessionQueries'
import { Button } from '../ui/Button'
import { TextField } from '../ui/Field'
import { Loading, ProblemNotice } from '../ui/Notice'
import { SaveDialog } from '../ui/SaveDialog'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import {
  type Account,
  accountsOptions,
  type Role,
  useAddAccount,
  usePutRoles,
  useRemoveAccount,
  useResetPassword,
} from './accountQueries'
import { RoleFields } from './RoleFields'
import { roleSaid } from './roles'

type Open = { what: 'new' } | { what: 'roles' | 'password'; account: Account }

/** Who may sign in here, and what they may do. */
export function AccountsView() {
  const all = useQuery(accountsOptions)
  const me = useQuery(meOptions)
  const may = useMay()
  const [open, setOpen] = useState<Open | null>(null)
  const close = () => setOpen(null)
  if (all.isPending) return <Loading what="the accounts" />
  if (all.error) return <ProblemNotice error={all.error} retry={() => all.refetch()} />
  return (
    <div className="overflow-y-auto pt-3">
      <div className="flex items-center gap-3 pb-2">
        <p className="grow text-soft">Who signs in here. Roles add up, and hold at once.</p>
        <Button does="addAccount" onClick={() => setOpen({ what: 'new' })}>
          <Plus size={15} aria-hidden /> Account
        </Button>
      </div>
      <table className="w-full border-collapse" onKeyDown={onRowKeys}>
        <thead>
          <tr>
            <Head>Signs in as</Head>
            <Head>Name</Head>
            <Head>May do</Head>
            <Head>
              <span className="sr-only">Do</span>
            </Head>
          </tr>
        </thead>
        <tbody>
          {all.data.map((a) => (
            <tr key={a.id} className="hover:bg-wash">
              <td className={cellClass}>
                <button
                  type="button"
                  onClick={() => setOpen({ what: 'roles', account: a })}
                  className="font-semibold underline decoration-rule underline-offset-2 hover:decoration-ink"
                >
                  {a.name}
                </button>
                {a.id === me.data?.id && <span className="text-soft"> (you)</span>}
              </td>
              <td className={cellClass}>{a.fullName}</td>
              <td className={cellClass}>
                {a.roles.length === 0 && <span className="text-ochre">nothing yet</span>}
                {a.roles.map((r) => (
                  <p key={roleSaid(r)}>{roleSaid(r)}</p>
                ))}
              </td>
              <td className={`${cellClass} text-right`}>
                {may('resetPassword') && a.id !== me.data?.id && (
                  <Button look="quiet" className="h-6!" onClick={() => setOpen({ what: 'password', account: a })}>
                    New password
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {open?.what === 'new' && <NewDialog onClose={close} />}
      {open?.what === 'roles' && <RolesDialog account={open.account} onClose={close} />}
      {open?.what === 'password' && <PasswordDialog account={open.account} onClose={close} />}
    </div>
  )
}

function NewDialog({ onClose }: { onClose: () => void }) {
  const [form, setForm] = useState({ name: '', fullName: '', password: '' })
  const [roles, setRoles] = useState<Role[]>([{ role: 'reader' }])
  const add = useAddAccount()
  return (
    <SaveDialog
      title="New account"
      does="addAccount"
      description="They sign in with the password, and should change it then."
      action="Add the account"
      ready={form.name.trim() !== '' && form.password !== ''}
      save={() => add.mutateAsync({ ...form, fullName: form.fullName || undefined, roles })}
      told={(made) => `${made.name} can sign in now.`}
      onClose={onClose}
    >
      {(wrong) => (
        <>
          <TextField
            label="Signs in as"
            value={form.name}
            onChange={(e) => setForm({ ...form, name: e.target.value })}
            error={wrong('name')}
            autoFocus
          />
          <TextField
            label="Full name"
            value={form.fullName}
            onChange={(e) => setForm({ ...form, fullName: e.target.value })}
          />
          <TextField
            label="Password"
            type="password"
            autoComplete="new-password"
            value={form.password}
            onChange={(e) => setForm({ ...form, password: e.target.value })}
            error={wrong('password')}
          />
          <RoleFields roles={roles} onChange={setRoles} />
        </>
      )}
    </SaveDialog>
  )
}

function RolesDialog({ account, onClose }: { account: Account; onClose: () => void }) {
  const [roles, setRoles] = useState(account.roles)
  const put = usePutRoles(account.id)
  const remove = useRemoveAccount()
  return (
    <SaveDialog
      title={account.fullName || account.name}
      does="putRoles"
      description="What they may do from now on, at every sign-in and with every token."
      action="Save"
      ready
      save={() => put.mutateAsync(roles)}
      told={(saved) => `Saved what ${saved.name} may do.`}
      remove={{ thing: account, by: remove }}
      onClose={onClose}
    >
      {() => <RoleFields roles={roles} onChange={setRoles} />}
    </SaveDialog>
  )
}

function PasswordDialog({ account, onClose }: { account: Account; onClose: () => void }) {
  const [password, setPassword] = useState('')
  const reset = useResetPassword(account.id)
  return (
    <SaveDialog
      title={`New password for ${account.fullName || account.name}`}
      does="resetPassword"
      description="Their sessions end, and their tokens are taken back."
      action="Set it"
      ready={password !== ''}
      save={() => reset.mutateAsync(password)}
      told={() => `${account.name} has another password.`}
      onClose={onClose}
    >
      {(wrong) => (
        <TextField
          label="New password"
          type="password"
          autoComplete="new-password"
          value={password}
          onChange={(e) => setPassword(e.target.value)}
          error={wrong('password')}
          autoFocus
        />
      )}
    </SaveDialog>
  )
}
