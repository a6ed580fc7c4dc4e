import { useQuery } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import { useState } from 'react'
import { trialOf } from '../address/trialSearch'
import { ExceptionDialog } from '../exceptions/ExceptionDialog'
import { type ExceptionInput, exceptionsOptions, useSaveException } from '../exceptions/exceptionQueries'
import { GrantDialog } from '../exceptions/GrantDialog'
import { useEndGrant } from '../exceptions/grantQueries'
import { type Does, type Subject, useMay } from '../may/may'
import { placesOf } from '../places/places'
import { policiesOptions, usePutPolicy, useTakeEntryOut } from '../policies/policyQueries'
import { movedAbove } from '../policies/ruleOrder'
import { isOwner, meOptions } from '../session/sessionQueries'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { buttonClass } from '../ui/Button'
import { ProblemNotice } from '../ui/Notice'
import { VerdictMark } from '../ui/VerdictMark'
import type { Flip } from './trialQueries'

/** The smallest changes that turn a verdict at a moment, each as a button. */
export function FlipList({ flips, url, at }: { flips: Flip[]; url: string; at: string }) {
  const [begin, setBegin] = useState<Partial<ExceptionInput> | null>(null)
  const [grant, setGrant] = useState<GrantBegin | null>(null)
  const [all, setAll] = useState(false)
  const narrowest = flips.filter((f) => f.kind === 'add exception')
  const others = flips.filter((f) => f.kind !== 'add exception')
  const shown = all ? flips : [...narrowest.slice(0, 1), ...others.slice(0, 3)]
  if (flips.length === 0) {
    return (
      <p className="text-sm text-soft">
        No single change would: more than one thing says so, or the baseline does by several rules.
      </p>
    )
  }
  return (
    <>
      <ul className="flex flex-col">
        {shown.map((f) => (
          <li key={f.text} className="flex items-center gap-3 border-rule border-t py-1.5 text-sm">
            <span className="grow">{f.text}</span>
            <VerdictMark verdict={f.verdict} bare />
            <FlipAction flip={f} url={url} onException={setBegin} onGrant={setGrant} />
          </li>
        ))}
      </ul>
      {flips.length > shown.length && (
        <button type="button" onClick={() => setAll(true)} className="text-left text-reed text-sm underline">
          {flips.length - shown.length} more ways
        </button>
      )}
      {begin && <ExceptionDialog begin={begin} covers={at} places={placesOf(url)} onClose={() => setBegin(null)} />}
      {grant && <GrantDialog begin={grant} places={placesOf(url)} onClose={() => setGrant(null)} />}
    </>
  )
}

type GrantBegin = { entries: string[]; for: ExceptionInput['for'] }

type ActionProps = {
  flip: Flip
  url: string
  onException: (begin: Partial<ExceptionInput>) => void
  onGrant: (begin: GrantBegin) => void
}

function FlipAction({ flip, url, onException, onGrant }: ActionProps) {
  const may = useMay()
  const policies = useQuery({ ...policiesOptions, enabled: flip.policy !== undefined && may('getPolicies') })
  const exceptions = useQuery({ ...exceptionsOptions, enabled: flip.exception !== undefined && may('getExceptions') })
  const put = usePutPolicy()
  const takeOut = useTakeEntryOut()
  const exception = exceptions.data?.find((e) => e.id === flip.exception)
  const end = useSaveException(exception)
  const endGrant = useEndGrant()
  const announce = useAnnounce()
  const me = useQuery(meOptions)
  const policy = policies.data?.find((p) => p.id === flip.policy)
  const error = put.error ?? takeOut.error ?? end.error ?? endGrant.error
  const done = () => announce(`Done: ${flip.text}.`)
  if (error) return <ProblemNotice error={error} />
  if (policy?.role === 'baseline' && !isOwner(me.data)) return <span className="text-soft">for owners</span>
  const button = (label: string, does: Does, act: () => void, on: Subject = {}) =>
    may(does, on) && (
      <button
        type="button"
        className={`${buttonClass()} h-7! px-2!`}
        onClick={act}
        aria-label={`${label}: ${flip.text}`}
      >
        {label}
      </button>
    )
  switch (flip.kind) {
    case 'add exception':
      return (
        <>
          {flip.verdict !== 'block' &&
            button('Allow now…', 'addGrant', () => onGrant({ entries: [flip.pattern ?? ''], for: named(flip) }), {
              people: true,
            })}
          {button(flip.verdict === 'block' ? 'Block…' : 'Allow…', 'addException', () =>
            onException({
              entries: [flip.pattern ?? ''],
              then: flip.verdict === 'block' ? 'block' : 'allow',
              for: named(flip),
            }),
          )}
        </>
      )
    case 'end grant':
      return button('End it', 'endGrant', () => afterwards(endGrant.mutateAsync(flip.grant ?? ''), done))
    case 'end exception':
      return button('End it', 'putException', () => {
        if (!exception) return
        const { id: _id, version: _v, updatedAt: _at, updatedBy: _by, state: _s, ...input } = exception
        afterwards(end.mutateAsync({ ...input, until: new Date().toISOString() }), done)
      })
    case 'take entry out':
      return button(
        'Take out',
        'removeEntries',
        () => afterwards(takeOut.mutateAsync({ list: flip.list?.id ?? '', entry: flip.entry ?? 0 }), done),
        { list: flip.list?.id },
      )
    case 'switch rule off':
      return button('Switch off', 'putPolicy', () => {
        if (!policy) return
        const rules = policy.rules.map((r) => (r.id === flip.ruleId ? { ...r, off: true } : r))
        afterwards(put.mutateAsync({ policy, change: { rules } }), done)
      })
    case 'move rule up':
      return button('Move up', 'putPolicy', () => {
        if (!policy) return
        const rules = movedAbove(policy.rules, flip.ruleId, flip.aboveId)
        afterwards(put.mutateAsync({ policy, change: { rules } }), done)
      })
    case 'correct category':
      return may('correct') ? (
        <Link
          to="/lookup"
          search={(before) => ({ ...trialOf(before), of: url })}
          className={`${buttonClass()} h-7! px-2!`}
        >
          Correct…
        </Link>
      ) : null
  }
}

/** For whom a proposed exception is, by the name in the proposal. */
function named(flip: Flip) {
  const name = flip.forName?.replace(/^the (group|network) "(.*)"$/, '$2')
  const refs = (all?: { id: string }[]) => all?.map((r) => ({ ...r, name }))
  return {
    ...flip.for,
    persons: refs(flip.for?.persons),
    groups: refs(flip.for?.groups),
    networks: refs(flip.for?.networks),
  }
}
