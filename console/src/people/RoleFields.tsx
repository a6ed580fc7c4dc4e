import { useQuery } from '@tanstack/react-query'
import { listsOptions } from '../lists/listQueries'
import { Check, Choice } from '../ui/Field'
import { RefPicker } from '../ui/RefPicker'
import type { Role } from './accountQueries'
import { groupsOptions } from './peopleQueries'
import { roleNames } from './roles'

const reaches: [string, string][] = [
  ['', 'as wide as needed'],
  ['page', 'one page'],
  ['host', 'one host'],
  ['site', 'one site'],
]

const lengths: [string, string][] = [
  ['0', 'up to 90 days'],
  ['60', 'up to an hour'],
  ['240', 'up to 4 hours'],
  ['1440', 'up to a day'],
  ['10080', 'up to a week'],
]

type Props = { roles: Role[]; onChange: (roles: Role[]) => void }

/** The fields that say what an account may do. */
export function RoleFields({ roles, onChange }: Props) {
  const groups = useQuery(groupsOptions)
  const lists = useQuery(listsOptions)
  const put = (role: Role) => onChange(roles.map((r) => (r.role === role.role ? role : r)))
  return (
    <fieldset className="flex flex-col gap-2">
      <legend className="pb-1 font-semibold text-sm">May do</legend>
      {roleNames.map(({ role, says, bounds }) => {
        const held = roles.find((r) => r.role === role)
        return (
          <div key={role} className="border-rule border-t pt-2">
            <Check
              label={`${role}: ${says}`}
              checked={held !== undefined}
              onChange={(on) => onChange(on ? [...roles, { role }] : roles.filter((r) => r.role !== role))}
            />
            {held && bounds === 'groups' && (
              <div className="flex flex-col gap-2 py-2 pl-6">
                <RefPicker
                  label={`Groups of the ${role}; none for everybody`}
                  chosen={held.groups ?? []}
                  offered={groups.data ?? []}
                  onChange={(chosen) => put({ ...held, groups: chosen })}
                />
                <div className="grid grid-cols-2 gap-3">
                  <Choice
                    label={`Grants of the ${role} open`}
                    value={held.reach ?? ''}
                    onChange={(reach) => put({ ...held, reach: (reach || undefined) as Role['reach'] })}
                    options={reaches}
                  />
                  <Choice
                    label={`Grants of the ${role} last`}
                    value={String(held.minutes ?? 0)}
                    onChange={(minutes) => put({ ...held, minutes: Number(minutes) || undefined })}
                    options={withOwn(lengths, held.minutes)}
                  />
                </div>
              </div>
            )}
            {held && bounds === 'lists' && (
              <div className="py-2 pl-6">
                <RefPicker
                  label={`Lists of the ${role}; none for everything`}
                  chosen={held.lists ?? []}
                  offered={lists.data ?? []}
                  onChange={(chosen) => put({ ...held, lists: chosen })}
                />
              </div>
            )}
          </div>
        )
      })}
    </fieldset>
  )
}

/** The lengths that are offered and, where another one was set elsewhere, that one. */
const withOwn = (offered: [string, string][], minutes = 0): [string, string][] =>
  offered.some(([value]) => value === String(minutes))
    ? offered
    : [...offered, [String(minutes), `up to ${minutes} minutes`]]
