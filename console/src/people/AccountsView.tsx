import { useQuery } from '@tanstack/react-query'
import { Plus } from 'lucide-react'
import { useState } from 'react'
import { May, useMay } from '../may/may'
import { meOptions } from '../session/sessionQueries'
import { Button } from '../ui/Button'
import { Dialog, DialogBody, DialogFoot } from '../ui/Dialog'
import { DialogDelete } from '../ui/DialogDelete'
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
import { ClaimsSection } from './ClaimsSection'
import { RoleFields } from './RoleFields'
import { roleSaid } from './roles'

type Open = { what: 'new' } | { what: 'roles' | 'password' | 'known'; account: Account }

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
            <Head>Signs in with</Head>
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
                  onClick={() => setOpen({ what: a.provider ? 'known' : 'roles', account: a })}
                  className="font-semibold underline decoration-rule underline-offset-2 hover:decoration-ink"
                >
                  {a.name}
                </button>
                {a.id === me.data?.id && <span className="text-soft"> (you)</span>}
              </td>
              <td className={cellClass}>{a.fullName}</td>
              <td className={cellClass}>
                {a.provider ? 'the identity provider' : a.second ? 'a second factor' : 'a password'}
              </td>
              <td className={cellClass}>
                {a.roles.length === 0 && <span className="text-ochre">nothing yet</span>}
                {a.roles.map((r) => (
                  <p key={roleSaid(r)}>{roleSaid(r)}</p>
                ))}
              </td>
              <td className={`${cellClass} text-right`}>
                {may('resetPassword') && a.id !== me.data?.id && !a.provider && (
                  <Button look="quiet" className="h-6!" onClick={() => setOpen({ what: 'password', account: a })}>
                    New password
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <ClaimsSection />
      {open?.what === 'new' && <NewDialog onClose={close} />}
      {open?.what === 'roles' && <RolesDialog account={open.account} onClose={close} />}
      {open?.what === 'known' && <KnownDialog account={open.account} onClose={close} />}
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

/** An account of the identity provider: what it may do follows from its groups there. */
function KnownDialog({ account, onClose }: { account: Account; onClose: () => void }) {
  const remove = useRemoveAccount()
  return (
    <Dialog
      open
      onOpenChange={(open) => open || onClose()}
      title={account.fullName || account.name}
      description="The identity provider keeps this account. What it may do follows from its groups there, when they sign in."
    >
      <DialogBody>
        <ul className="list-disc pl-5">
          {account.roles.map((r) => (
            <li key={roleSaid(r)}>{roleSaid(r)}</li>
          ))}
          {account.roles.length === 0 && <li>nothing: none of its groups has a role here</li>}
        </ul>
        {remove.error && <ProblemNotice error={remove.error} />}
      </DialogBody>
      <DialogFoot>
        <May does="removeAccount">
          <DialogDelete thing={account} remove={remove} onDeleted={onClose} />
        </May>
        <Button onClick={onClose}>Close</Button>
      </DialogFoot>
    </Dialog>
  )
}

function PasswordDialog({ account, onClose }: { account: Account; onClose: () => void }) {
  const [password, setPassword] = useState('')
  const reset = useResetPassword(account.id)
  return (
    <SaveDialog
      title={`New password for ${account.fullName || account.name}`}
      does="resetPassword"
      description="Their sessions end, and their tokens and second factors are taken away."
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
