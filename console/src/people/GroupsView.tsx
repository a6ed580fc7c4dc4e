import { useQuery } from '@tanstack/react-query'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { clsx } from 'clsx'
import { type DragEvent, useState } from 'react'
import { useMay } from '../may/may'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { fieldClass } from '../ui/Field'
import { count, formatNumber } from '../ui/format'
import { Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { useSettled } from '../ui/useSettled'
import { GroupDialog } from './GroupDialog'
import { PersonDialog } from './PersonDialog'
import { type Group, groupsOptions, type Person, peopleOptions, useMovePeople } from './peopleQueries'

const dragged = 'application/x-widelark-people'

export function GroupsAndPeople() {
  const { q = '', group } = useSearch({ from: '/people' })
  const navigate = useNavigate({ from: '/people' })
  const may = useMay()
  const groups = useQuery(groupsOptions)
  const people = useQuery(peopleOptions(useSettled(q), group))
  const [chosen, setChosen] = useState<string[]>([])
  const [edited, setEdited] = useState<Group | null>(null)
  const [person, setPerson] = useState<Person | null>(null)
  const move = useMovePeople()
  const announce = useAnnounce()
  const current = groups.data?.find((g) => g.id === group)
  const open = (id?: string) => {
    setChosen([])
    void navigate({ search: (before) => ({ ...before, group: id }) })
  }
  const moveTo = (ids: string[], to: Group, leave: boolean) =>
    afterwards(
      move.mutateAsync({ people: ids, into: [to.id], outOf: leave && group && group !== to.id ? [group] : undefined }),
      ({ changed }) => {
        announce(`${count(changed, 'person is', 'people are')} in ${to.name} now.`)
        setChosen([])
      },
    )
  const drag = (event: DragEvent, p: Person) => {
    const ids = chosen.includes(p.id) ? chosen : [p.id]
    event.dataTransfer.setData(dragged, JSON.stringify(ids))
    event.dataTransfer.effectAllowed = 'copyMove'
  }
  return (
    <div className="grid min-h-0 grow grid-cols-[minmax(11rem,28%)_minmax(0,1fr)] gap-6 pt-3">
      <nav aria-label="Groups" className="overflow-y-auto border-rule border-r pr-3">
        {groups.isPending && <Loading what="the groups" />}
        {groups.error && <ProblemNotice error={groups.error} retry={() => groups.refetch()} />}
        <ul className="flex flex-col">
          <li>
            <button
              type="button"
              aria-current={group === undefined}
              onClick={() => open()}
              className={clsx(
                'w-full border-l-3 px-3 py-1.5 text-left hover:bg-wash',
                group === undefined ? 'border-reed bg-reed-wash font-semibold' : 'border-transparent',
              )}
            >
              Everybody
            </button>
          </li>
          {groups.data?.map((g) => (
            <GroupRow
              key={g.id}
              group={g}
              current={g.id === group}
              onOpen={() => open(g.id)}
              onDropped={(ids, leave) => moveTo(ids, g, leave)}
            />
          ))}
        </ul>
      </nav>
      <section aria-label="People" className="flex min-h-0 flex-col">
        <div className="flex flex-wrap items-center gap-x-3 gap-y-1 pb-2">
          <h2 className="font-semibold text-lg">{current?.name ?? 'Everybody'}</h2>
          <span className="text-soft">{people.data && formatNumber(people.data.total)}</span>
          {current && (
            <Button look="quiet" onClick={() => setEdited(current)}>
              {may('putGroup') && !current.directory ? 'Change the group' : 'What it is'}
            </Button>
          )}
          <span className="grow" />
          <input
            type="search"
            aria-label="Filter people"
            placeholder="Filter by name"
            value={q}
            onChange={(e) =>
              navigate({ search: (before) => ({ ...before, q: e.target.value || undefined }), replace: true })
            }
            className={`${fieldClass} h-8 w-56 min-w-0 shrink`}
          />
        </div>
        {current && <Also group={current} />}
        {chosen.length > 0 && (
          <div className="flex items-center gap-2 border-reed border-l-3 bg-reed-wash px-3 py-1.5 text-sm">
            <span className="grow">{count(chosen.length, 'person', 'people')} chosen</span>
            <label className="flex items-center gap-2">
              Put into
              <select
                value=""
                onChange={(e) => {
                  const to = groups.data?.find((g) => g.id === e.target.value)
                  if (to) moveTo(chosen, to, false)
                }}
                className={`${fieldClass} h-8`}
              >
                <option value="">choose a group</option>
                {groups.data
                  ?.filter((g) => !g.directory)
                  .map((g) => (
                    <option key={g.id} value={g.id}>
                      {g.name}
                    </option>
                  ))}
              </select>
            </label>
            {current && !current.directory && (
              <Button
                onClick={() =>
                  afterwards(move.mutateAsync({ people: chosen, outOf: [current.id] }), ({ changed }) => {
                    announce(`${count(changed, 'person is', 'people are')} not in ${current.name} any more.`)
                    setChosen([])
                  })
                }
              >
                Take out of {current.name}
              </Button>
            )}
          </div>
        )}
        {move.error && <ProblemNotice error={move.error} />}
        {people.error && <ProblemNotice error={people.error} retry={() => people.refetch()} />}
        <div className="min-h-0 grow overflow-y-auto">
          <table className="w-full border-collapse" onKeyDown={onRowKeys}>
            <thead>
              <tr>
                <Head className="w-8">
                  <span className="sr-only">Choose</span>
                </Head>
                <Head>Person</Head>
                <Head>Signs in as</Head>
                <Head>Groups</Head>
              </tr>
            </thead>
            <tbody>
              {people.data?.items.map((p) => (
                <tr
                  key={p.id}
                  draggable={may('movePeople') && !p.directory}
                  onDragStart={(e) => drag(e, p)}
                  className="hover:bg-wash"
                >
                  <td className={cellClass}>
                    <input
                      type="checkbox"
                      hidden={!may('movePeople') || p.directory !== undefined}
                      aria-label={`Choose ${p.fullName || p.name}`}
                      checked={chosen.includes(p.id)}
                      onChange={(e) =>
                        setChosen(e.target.checked ? [...chosen, p.id] : chosen.filter((id) => id !== p.id))
                      }
                      className="accent-reed"
                    />
                  </td>
                  <td className={cellClass}>
                    <button
                      type="button"
                      onClick={() => setPerson(p)}
                      className="text-left underline decoration-rule underline-offset-2 hover:decoration-ink"
                    >
                      {p.fullName || p.name}
                    </button>
                  </td>
                  <td className={`${cellClass} text-soft`}>
                    {p.name}
                    {p.directory && <span className="text-sm"> · {p.directory.name}</span>}
                  </td>
                  <td className={`${cellClass} text-sm`}>
                    {p.groups.map((g) => g.name).join(', ') || <span className="text-ochre">none</span>}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {people.data?.total === 0 && (
            <p className="py-4 text-soft">Nobody here. Drag people onto a group, or import a directory's file.</p>
          )}
          {people.data && people.data.items.length < people.data.total && (
            <p className="py-3 text-sm text-soft">
              The first {formatNumber(people.data.items.length)}; filter to find others.
            </p>
          )}
        </div>
      </section>
      {edited && <GroupDialog group={edited} onClose={() => setEdited(null)} />}
      {person && <PersonDialog person={person} onClose={() => setPerson(null)} />}
    </div>
  )
}

/** The other members of a group, and the policies that apply to it. */
function Also({ group: g }: { group: Group }) {
  const names = (refs: { name?: string }[]) => refs.map((r) => r.name)
  const also = [...names(g.groups), ...names(g.networks), ...names(g.machines), ...g.ranges]
  return (
    <p className="pb-2 text-sm text-soft">
      {g.directory && <>From the directory {g.directory.name}, and edited there. </>}
      {g.description} {also.length > 0 && <>Also in it: {also.join(', ')}. </>}
      {g.within.length > 0 && <>Part of {names(g.within).join(', ')}. </>}
      {g.lead && <>Led by {g.lead.name}. </>}
      {g.policies.length > 0 ? (
        <>Policies: {names(g.policies).join(', ')}.</>
      ) : (
        <span className="text-ochre">No policy is for it.</span>
      )}
    </p>
  )
}

type RowProps = {
  group: Group
  current: boolean
  onOpen: () => void
  onDropped: (ids: string[], leave: boolean) => void
}

/** A group, onto which people can be dropped: they join it and, with Shift, leave the group that is shown. */
function GroupRow({ group, current, onOpen, onDropped }: RowProps) {
  const [over, setOver] = useState(false)
  return (
    <li>
      <button
        type="button"
        aria-current={current}
        onClick={onOpen}
        onDragOver={(e) => {
          if (e.dataTransfer.types.includes(dragged) && !group.directory) {
            e.preventDefault()
            setOver(true)
          }
        }}
        onDragLeave={() => setOver(false)}
        onDrop={(e) => {
          e.preventDefault()
          setOver(false)
          onDropped(JSON.parse(e.dataTransfer.getData(dragged) || '[]') as string[], e.shiftKey)
        }}
        className={clsx(
          'flex w-full items-baseline gap-2 border-l-3 px-3 py-1.5 text-left hover:bg-wash',
          current ? 'border-reed bg-reed-wash font-semibold' : 'border-transparent',
          over && 'bg-reed-wash outline-2 outline-reed',
        )}
      >
        <span className="grow">{group.name}</span>
        <span className="text-sm text-soft">
          {group.persons > 0
            ? formatNumber(group.persons)
            : group.networks.length + group.ranges.length > 0
              ? 'by address'
              : group.groups.length > 0
                ? 'by groups'
                : '0'}
        </span>
      </button>
    </li>
  )
}
