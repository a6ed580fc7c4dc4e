import { useQuery } from '@tanstack/react-query'
import { Link, useNavigate, useParams } from '@tanstack/react-router'
import { ArrowDown, ArrowUp, GripVertical, Plus } from 'lucide-react'
import { useMemo, useState } from 'react'
import { trialOf } from '../address/trialSearch'
import { useMay } from '../may/may'
import { isOwner, meOptions } from '../session/sessionQueries'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button, IconButton } from '../ui/Button'
import { Menu, MenuItem } from '../ui/Menu'
import { Loading, ProblemNotice } from '../ui/Notice'
import { isVerdict, type Verdict, VerdictMark, verdicts } from '../ui/VerdictMark'
import { Hits } from '../usage/Hits'
import { useUsage } from '../usage/useUsage'
import { useDragOrder } from './dragOrder'
import { PageDialog } from './PageDialog'
import { PolicyDialog } from './PolicyDialog'
import { Plans } from './PolicyPlans'
import {
  inputOf,
  type Policy,
  policiesOptions,
  type Rule,
  useAddPolicy,
  usePutPolicy,
  useRemovePolicy,
} from './policyQueries'
import { RuleDialog } from './RuleDialog'
import { RuleFindings } from './RuleFindings'

/** One policy: its rules as sentences in order, its groups, and what these may reach when. */
export function PolicyPage() {
  const { id } = useParams({ from: '/policies/$id' })
  const all = useQuery(policiesOptions)
  const policy = all.data?.find((p) => p.id === id)
  return (
    <div className="flex h-full flex-col overflow-y-auto px-5 pb-8">
      <p className="pt-3 text-sm">
        <Link to="/policies" search={trialOf} className="underline underline-offset-2">
          Policies
        </Link>
      </p>
      {all.isPending && <Loading what="the policy" />}
      {all.error && <ProblemNotice error={all.error} retry={() => all.refetch()} />}
      {all.data && !policy && <p className="py-8">There is no such policy; it may have been deleted.</p>}
      {policy && <Shown policy={policy} />}
    </div>
  )
}

const about = {
  baseline: 'For everybody, before all other policies; its verdicts are final.',
  fallback: 'For requests that no policy is for.',
}

function Shown({ policy: p }: { policy: Policy }) {
  const put = usePutPolicy()
  const add = useAddPolicy()
  const remove = useRemovePolicy()
  const navigate = useNavigate()
  const announce = useAnnounce()
  const [open, setOpen] = useState<number | 'new' | 'policy' | 'page' | null>(null)
  const me = useQuery(meOptions)
  const used = useUsage(
    'rule',
    useMemo(() => p.rules.map((r) => r.id ?? ''), [p.rules]),
  )
  // Only owners edit the baseline.
  const may = useMay()
  const closed = !may('putPolicy') || (p.role === 'baseline' && !isOwner(me.data))
  const error = put.error ?? add.error ?? remove.error
  const setRules = (rules: Rule[], told: string) =>
    afterwards(put.mutateAsync({ policy: p, change: { rules } }), () => announce(told))
  const move = (from: number, to: number) => {
    const rules = [...p.rules]
    const [moved] = rules.splice(from, 1)
    if (!moved || put.isPending || to < 0 || to > rules.length) return
    rules.splice(to, 0, moved)
    setRules(rules, `${moved.name} is rule ${to + 1} now.`)
  }
  const drag = useDragOrder(move)
  const copy = () => {
    const { role: _role, ...input } = inputOf(p)
    afterwards(add.mutateAsync({ ...input, name: `${p.name} (copy)`, groups: [] }), (made) => {
      announce(`Made ${made.name}, for nobody yet.`)
      void navigate({ to: '/policies/$id', params: { id: made.id }, search: trialOf })
    })
  }
  return (
    <>
      <div className="flex items-end gap-3 pb-3">
        <div className="grow">
          <h1 className="font-semibold text-xl">{p.name}</h1>
          <p className="text-soft">
            {p.role ? about[p.role] : p.description}{' '}
            {!p.role && (
              <span className="text-ink">
                For{' '}
                {p.groups.length > 0 ? (
                  p.groups.map((g) => g.name).join(', ')
                ) : (
                  <span className="text-ochre">nobody yet</span>
                )}
                .
              </span>
            )}
          </p>
        </div>
        {!closed && <Button onClick={() => setOpen('policy')}>Change the policy</Button>}
        <Menu
          trigger={
            <Button does="addPolicy" aria-label="What to do with the policy">
              ⋯
            </Button>
          }
        >
          {p.role !== 'baseline' && (
            <MenuItem does="putPolicy" onSelect={() => setOpen('page')}>
              Pages in place of what is refused
            </MenuItem>
          )}
          <MenuItem does="addPolicy" onSelect={copy}>
            Duplicate
          </MenuItem>
          {!p.role && (
            <MenuItem
              does="removePolicy"
              onSelect={() =>
                afterwards(remove.mutateAsync(p), () => {
                  announce(`Deleted ${p.name}.`)
                  void navigate({ to: '/policies', search: trialOf })
                })
              }
            >
              Delete
            </MenuItem>
          )}
        </Menu>
        {!closed && (
          <Button look="main" onClick={() => setOpen('new')}>
            <Plus size={16} aria-hidden /> New rule
          </Button>
        )}
      </div>
      {closed && p.role === 'baseline' && (
        <p className="mb-3 border-edge border-l-3 bg-wash px-3 py-1.5 text-sm">
          Only owners edit the baseline.{' '}
          {may('addPolicy') && 'You may duplicate it, and make exceptions and policies below it.'}
        </p>
      )}
      {error && <ProblemNotice error={error} />}
      <ol className="flex flex-col border-edge border-t">
        {p.rules.map((r, i) => (
          <li
            key={r.id}
            {...(closed ? {} : drag(i))}
            className="grid grid-cols-[2.5rem_6rem_minmax(0,1fr)_8.5rem_auto] items-start gap-3 border-rule border-b py-2 hover:bg-wash"
          >
            <span className="flex items-center gap-1 pt-0.5 text-soft">
              {!closed && <GripVertical size={15} aria-hidden className="cursor-grab" />}
              {i + 1}
            </span>
            <span className="pt-0.5">
              {r.off ? (
                <span className="text-soft">off</span>
              ) : isVerdict(r.then) ? (
                <VerdictMark verdict={r.then} />
              ) : (
                <span className="font-semibold text-soft">note</span>
              )}
            </span>
            <div className="min-w-0">
              {closed ? (
                <span className="font-semibold">{r.name}</span>
              ) : (
                <button
                  type="button"
                  onClick={() => setOpen(i)}
                  className="text-left font-semibold underline decoration-rule underline-offset-2 hover:decoration-ink"
                >
                  {r.name}
                </button>
              )}
              <p className="text-sm text-soft">{p.sentences[i]}</p>
              {p.conflicts
                .filter((c) => c.rule === i)
                .map((c) => (
                  <p key={c.text} className="text-ochre text-sm">
                    {c.text}
                  </p>
                ))}
              <RuleFindings policy={p.id} rule={i} />
            </div>
            <span className="pt-0.5 text-right">
              <Hits said used={used?.get(r.id ?? '')} name={r.name} query={`rule:${r.id}`} />
            </span>
            {!closed && (
              <span className="flex items-center">
                <IconButton
                  label={`Move ${r.name} up`}
                  disabled={i === 0 || put.isPending}
                  onClick={() => move(i, i - 1)}
                >
                  <ArrowUp size={15} aria-hidden />
                </IconButton>
                <IconButton
                  label={`Move ${r.name} down`}
                  disabled={i === p.rules.length - 1 || put.isPending}
                  onClick={() => move(i, i + 1)}
                >
                  <ArrowDown size={15} aria-hidden />
                </IconButton>
                <Menu
                  trigger={
                    <button
                      type="button"
                      aria-label={`What to do with ${r.name}`}
                      className="rounded-sm px-2 hover:bg-wash"
                    >
                      ⋯
                    </button>
                  }
                >
                  <MenuItem onSelect={() => setOpen(i)}>Change</MenuItem>
                  <MenuItem
                    onSelect={() =>
                      setRules(
                        p.rules.map((other, at) => (at === i ? { ...other, off: !other.off } : other)),
                        `${r.name} is switched ${r.off ? 'on' : 'off'}.`,
                      )
                    }
                  >
                    {r.off ? 'Switch on' : 'Switch off'}
                  </MenuItem>
                  <MenuItem
                    onSelect={() =>
                      setRules(
                        p.rules.flatMap((other, at) =>
                          at === i ? [other, { ...other, id: undefined, name: `${other.name} (copy)` }] : [other],
                        ),
                        `${r.name} is there twice now.`,
                      )
                    }
                  >
                    Duplicate
                  </MenuItem>
                  <MenuItem
                    onSelect={() =>
                      setRules(
                        p.rules.filter((_, at) => at !== i),
                        `Took ${r.name} out.`,
                      )
                    }
                  >
                    Take out
                  </MenuItem>
                </Menu>
              </span>
            )}
          </li>
        ))}
        {p.role !== 'baseline' && (
          <li className="grid grid-cols-[2.5rem_6rem_minmax(0,1fr)] items-center gap-3 border-rule border-b py-2">
            <span />
            <VerdictMark verdict={p.otherwise} />
            <label className="flex items-center gap-2 text-soft">
              Otherwise
              <select
                aria-label="Otherwise"
                disabled={closed}
                value={p.otherwise}
                onChange={(e) => put.mutate({ policy: p, change: { otherwise: e.target.value as Verdict } })}
                className="h-8 rounded-sm border border-edge bg-leaf px-2 text-ink"
              >
                {verdicts.map((v) => (
                  <option key={v} value={v}>
                    {v}
                  </option>
                ))}
              </select>
              where no rule above decides
            </label>
          </li>
        )}
      </ol>
      {p.opens && <p className="pt-3 text-sm text-soft">{p.opens}</p>}
      {p.insists && <p className="pt-3 text-sm text-soft">{p.insists}</p>}
      {p.recorded && <p className="pt-3 text-sm text-soft">{p.recorded}</p>}
      {!p.role && <Plans policy={p} />}
      {open === 'page' && <PageDialog policy={p} onClose={() => setOpen(null)} />}
      {open === 'policy' && <PolicyDialog policy={p} onClose={() => setOpen(null)} />}
      {(open === 'new' || typeof open === 'number') && (
        <RuleDialog
          rule={typeof open === 'number' ? p.rules[open] : undefined}
          baseline={p.role === 'baseline'}
          onClose={() => setOpen(null)}
          onSave={(rule) =>
            put.mutateAsync({
              policy: p,
              change: {
                rules: typeof open === 'number' ? p.rules.map((r, i) => (i === open ? rule : r)) : [...p.rules, rule],
              },
            })
          }
        />
      )}
    </>
  )
}
