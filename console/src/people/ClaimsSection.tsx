import { useQuery } from '@tanstack/react-query'
import { Plus } from 'lucide-react'
import { useState } from 'react'
import { Button } from '../ui/Button'
import { TextField } from '../ui/Field'
import { ProblemNotice } from '../ui/Notice'
import { SaveDialog } from '../ui/SaveDialog'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { type Claim, claimsOptions, type Role, usePutClaim, useRemoveClaim } from './accountQueries'
import { RoleFields } from './RoleFields'
import { roleSaid } from './roles'

/** What those may do whom the identity provider puts in a group. Without a provider, and without such groups, nothing is shown. */
export function ClaimsSection() {
  const all = useQuery(claimsOptions)
  const [open, setOpen] = useState<Claim | 'new' | null>(null)
  if (all.isPending) return null
  if (all.error) return <ProblemNotice error={all.error} retry={() => all.refetch()} />
  const { provider, claims } = all.data
  if (!provider && claims.length === 0) return null
  return (
    <section aria-labelledby="claims" className="pt-6">
      <div className="flex items-end gap-3 pb-2">
        <div className="grow">
          <h2 id="claims" className="font-semibold text-lg">
            Groups of the identity provider
          </h2>
          <p className="text-soft">
            Whoever signs in at {provider ?? 'the identity provider'} may do what their groups there have here.
          </p>
        </div>
        <Button does="putClaim" onClick={() => setOpen('new')}>
          <Plus size={15} aria-hidden /> Group of the provider
        </Button>
      </div>
      {claims.length > 0 && (
        <table className="w-full border-collapse" onKeyDown={onRowKeys}>
          <thead>
            <tr>
              <Head>Group there</Head>
              <Head>May do here</Head>
            </tr>
          </thead>
          <tbody>
            {claims.map((c) => (
              <tr key={c.group} className="hover:bg-wash">
                <td className={cellClass}>
                  <button
                    type="button"
                    onClick={() => setOpen(c)}
                    className="font-semibold underline decoration-rule underline-offset-2 hover:decoration-ink"
                  >
                    {c.group}
                  </button>
                </td>
                <td className={cellClass}>{c.roles.map(roleSaid).join('; ')}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {open && <ClaimDialog claim={open === 'new' ? undefined : open} onClose={() => setOpen(null)} />}
    </section>
  )
}

function ClaimDialog({ claim, onClose }: { claim: Claim | undefined; onClose: () => void }) {
  const [group, setGroup] = useState(claim?.group ?? '')
  const [roles, setRoles] = useState<Role[]>(claim?.roles ?? [{ role: 'reader' }])
  const put = usePutClaim()
  const remove = useRemoveClaim()
  return (
    <SaveDialog
      title={claim ? claim.group : 'Group of the identity provider'}
      does="putClaim"
      description="It holds at once, for everybody whom the provider put in the group when they last signed in."
      action="Save"
      ready={group.trim() !== ''}
      save={() => put.mutateAsync({ group: group.trim(), roles })}
      told={(saved) => `Saved what ${saved.group} may do.`}
      {...(claim && { remove: { thing: { name: claim.group }, by: remove } })}
      onClose={onClose}
    >
      {() => (
        <>
          {!claim && (
            <TextField
              label="Group, as the provider calls it"
              value={group}
              onChange={(e) => setGroup(e.target.value)}
              autoFocus
            />
          )}
          <RoleFields roles={roles} onChange={setRoles} />
        </>
      )}
    </SaveDialog>
  )
}
