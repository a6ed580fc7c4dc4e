import { useQuery } from '@tanstack/react-query'
import { Link, useNavigate, useSearch } from '@tanstack/react-router'
import { ArrowDown, ArrowUp, GripVertical, Plus } from 'lucide-react'
import { useState } from 'react'
import { trialOf } from '../address/trialSearch'
import type { Schemas } from '../api/client'
import { DraftMark } from '../draft/DraftMark'
import { useAsked, useMay } from '../may/may'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button, IconButton } from '../ui/Button'
import { count } from '../ui/format'
import { Loading, ProblemNotice } from '../ui/Notice'
import { VerdictMark } from '../ui/VerdictMark'
import { ViewButtons } from '../ui/ViewButtons'
import { ways } from '../ui/ways'
import { AppsView } from './AppsView'
import { useDragOrder } from './dragOrder'
import { EnginesView } from './EnginesView'
import { NewPolicyDialog } from './NewPolicyDialog'
import { effectsOptions, type Policy, policiesOptions, settingsOptions, usePutSettings } from './policyQueries'
import type { PolicyView } from './views'

const viewNames: Record<PolicyView, string> = { policies: 'In order', apps: 'Apps', engines: 'Search engines' }

const effects: Record<Schemas['Settings']['combining'], string> = {
  position: 'Where a request has several policies, the first in this order counts.',
  strictest: 'Where a request has several policies, the strictest verdict counts: block, then hold, watch, allow.',
  loosest: 'Where a request has several policies, the loosest verdict counts: allow, then watch, hold, block.',
}

/** All policies in their order, and how they combine. */
export function PoliciesPage() {
  const { view = 'policies' } = useSearch({ from: '/policies' })
  const navigate = useNavigate({ from: '/policies' })
  const [open, setOpen] = useState(false)
  return (
    <div className="flex h-full flex-col overflow-y-auto px-5 pb-6">
      <div className="flex items-end gap-3 pt-4 pb-3">
        <div className="grow">
          <h1 className="font-semibold text-xl">Policies</h1>
          <p className="text-soft">Ordered rules for groups. The baseline stands before all of them and is final.</p>
        </div>
        {view === 'policies' && (
          <Button look="main" does="addPolicy" onClick={() => setOpen(true)}>
            <Plus size={16} aria-hidden /> New policy
          </Button>
        )}
      </div>
      <ViewButtons
        names={viewNames}
        chosen={view}
        onChoose={(v) => navigate({ search: (before) => ({ ...before, view: v }) })}
      />
      {view === 'apps' ? <AppsView /> : view === 'engines' ? <EnginesView /> : <InOrder />}
      {open && <NewPolicyDialog onClose={() => setOpen(false)} />}
    </div>
  )
}

/** The policies in their order, and their common settings. */
function InOrder() {
  const all = useQuery(policiesOptions)
  const may = useMay()
  const settings = useQuery(settingsOptions)
  const put = usePutSettings()
  const announce = useAnnounce()
  const ordered = (all.data ?? []).filter((p) => !p.role)
  const baseline = all.data?.find((p) => p.role === 'baseline')
  const fallback = all.data?.find((p) => p.role === 'fallback')
  const move = (from: number, to: number) => {
    const order = ordered.map((p) => ({ id: p.id }))
    const [moved] = order.splice(from, 1)
    if (!moved || !settings.data || put.isPending || to < 0 || to > order.length) return
    order.splice(to, 0, moved)
    afterwards(put.mutateAsync({ settings: settings.data, change: { order } }), () =>
      announce(`${ordered[from]?.name} is at place ${to + 1} now.`),
    )
  }
  const drag = useDragOrder(move)
  return (
    <>
      {all.isPending && <Loading what="the policies" />}
      {all.error && <ProblemNotice error={all.error} retry={() => all.refetch()} />}
      {put.error && <ProblemNotice error={put.error} />}
      {settings.data && (
        <div className="flex flex-wrap items-center gap-x-5 gap-y-1 border-rule border-b py-2">
          <label className="flex items-center gap-2 whitespace-nowrap font-semibold text-sm">
            Several policies
            <select
              value={settings.data.combining}
              disabled={!may('putSettings')}
              onChange={(e) =>
                settings.data &&
                put.mutate({
                  settings: settings.data,
                  change: { combining: e.target.value as Schemas['Settings']['combining'] },
                })
              }
              className="h-8 rounded-sm border border-edge bg-leaf px-2 font-normal"
            >
              <option value="position">by position</option>
              <option value="strictest">the strictest</option>
              <option value="loosest">the loosest</option>
            </select>
          </label>
          <label className="flex items-center gap-2 whitespace-nowrap font-semibold text-sm">
            Clients meet
            <select
              value={settings.data.way}
              disabled={!may('putSettings')}
              onChange={(e) =>
                settings.data && put.mutate({ settings: settings.data, change: { way: e.target.value } })
              }
              className="h-8 rounded-sm border border-edge bg-leaf px-2 font-normal"
            >
              {ways.map(([way, name]) => (
                <option key={way} value={way}>
                  {name}
                </option>
              ))}
              <option value="none">no gate</option>
            </select>
          </label>
          <p className="w-full text-sm text-soft">
            {effects[settings.data.combining]} <Effects />
          </p>
        </div>
      )}
      {all.data && (
        <ol className="flex flex-col pt-2">
          {baseline && <Row policy={baseline} note="Before all others, for everybody; its verdicts are final." />}
          {ordered.map((p, i) => (
            <Row key={p.id} policy={p} place={i + 1} drag={may('putPolicy') ? drag(i) : undefined}>
              <IconButton
                does="putPolicy"
                label={`Move ${p.name} up`}
                disabled={i === 0 || put.isPending}
                onClick={() => move(i, i - 1)}
              >
                <ArrowUp size={15} aria-hidden />
              </IconButton>
              <IconButton
                does="putPolicy"
                label={`Move ${p.name} down`}
                disabled={i === ordered.length - 1 || put.isPending}
                onClick={() => move(i, i + 1)}
              >
                <ArrowDown size={15} aria-hidden />
              </IconButton>
            </Row>
          ))}
          {fallback && <Row policy={fallback} note="For requests that no policy is for." />}
        </ol>
      )}
    </>
  )
}

const combinations = { position: 'by position', strictest: 'with the strictest', loosest: 'with the loosest' }

/** The number of people with several policies, and the verdicts that another way of combining would turn for them. */
function Effects() {
  const found = useAsked('getEffects', effectsOptions)
  if (!found.data) return null
  const { people, ways: all } = found.data
  if (people === 0) return <span>Nobody has several.</span>
  const others = all.filter((w) => w.opened + w.closed > 0)
  return (
    <span>
      {count(people, 'person has', 'people have')} several
      {others.map((w) => (
        <span key={w.combining} title={w.examples.join('\n')}>
          ; {combinations[w.combining]},{' '}
          {w.opened > 0 && `${count(w.opened, 'recorded page', 'recorded pages')} would open`}
          {w.opened > 0 && w.closed > 0 && ' and '}
          {w.closed > 0 && `${count(w.closed, 'recorded page', 'recorded pages')} would close`} for some of them
        </span>
      ))}
      .
    </span>
  )
}

type RowProps = {
  policy: Policy
  place?: number
  note?: string
  drag?: React.HTMLAttributes<HTMLElement>
  children?: React.ReactNode
}

function Row({ policy: p, place, note, drag, children }: RowProps) {
  return (
    <li
      {...drag}
      className="grid grid-cols-[2.5rem_minmax(0,5fr)_minmax(0,3fr)_6rem_4rem] items-center gap-3 border-rule border-b py-2 hover:bg-wash"
    >
      <span className="flex items-center gap-1 text-soft">
        {drag && <GripVertical size={15} aria-hidden className="cursor-grab" />}
        {place}
      </span>
      <div className="min-w-0">
        <Link
          to="/policies/$id"
          params={{ id: p.id }}
          search={trialOf}
          className="font-semibold underline decoration-rule underline-offset-2 hover:decoration-ink"
        >
          {p.name}
        </Link>
        <DraftMark id={p.id} />
        <p className="text-sm text-soft">{note ?? p.description}</p>
        {p.conflicts.length > 0 && (
          <p className="text-ochre text-sm">
            {count(p.conflicts.length, 'place', 'places')} where it tries to loosen the baseline
          </p>
        )}
      </div>
      <span className="text-sm">
        {p.groups.map((g) => g.name).join(', ')}
        {!p.role && p.groups.length === 0 && <span className="text-ochre">for nobody</span>}
      </span>
      <span className="text-sm text-soft">
        {count(p.rules.length, 'rule', 'rules')}
        {p.role !== 'baseline' && (
          <span className="block">
            else <VerdictMark verdict={p.otherwise} />
          </span>
        )}
      </span>
      <span className="flex justify-end">{children}</span>
    </li>
  )
}
