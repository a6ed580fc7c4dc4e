import { Link } from '@tanstack/react-router'
import { clsx } from 'clsx'
import { type ReactNode, useState } from 'react'
import { trialOf } from '../address/trialSearch'
import { CategoryNames } from '../categories/CategoryNames'
import { formatShort, zoneNote } from '../ui/clock'
import { count } from '../ui/format'
import { Mono } from '../ui/Mono'
import { Strip } from '../ui/Strip'
import { isVerdict, NoVerdict, VerdictMark } from '../ui/VerdictMark'
import { wayName } from '../ui/ways'
import { FlipList } from './FlipList'
import type { Step, Trial, Trials } from './trialQueries'

/** One answer: the verdict, why, until when, what would turn it, and every step on demand. */
export function TrialDetail({ trial, answer }: { trial: Trial; answer: Trials }) {
  if (trial.problem) {
    return (
      <div className="flex flex-col gap-2">
        <NoVerdict>no URL</NoVerdict>
        <Mono>{trial.input}</Mono>
        <p>Nothing to decide on: {trial.problem}.</p>
      </div>
    )
  }
  const { decider, outlook } = trial
  return (
    <div className="flex flex-col gap-5">
      <div className="flex flex-col gap-1.5">
        {trial.verdict && <VerdictMark verdict={trial.verdict} large />}
        <Mono>{trial.url ?? ''}</Mono>
        <p className="text-sm text-soft">
          for <span className="text-ink">{answer.who.name}</span>, {formatShort(answer.at)}
          {zoneNote()}
        </p>
        {trial.sees && (
          <p>
            The person sees <span className="font-semibold">{trial.sees}</span>.
          </p>
        )}
        {trial.provisos && <p>With {trial.provisos}.</p>}
        {trial.safeBy && <p>Answers are made safe by {trial.safeBy}.</p>}
        {trial.spent?.map((spent) => (
          <p key={spent.policy + spent.rule}>
            Used today: {spent.minutes} of {count(spent.of, 'minute', 'minutes')} ({spent.policy}: {spent.rule}).
          </p>
        ))}
        {trial.notHeld && <p className="text-ochre">Not held, as the gate cannot do it there: {trial.notHeld}.</p>}
      </div>
      <Section title="Because">
        <p>{trial.because}</p>
        {decider && (
          <dl className="grid grid-cols-[4rem_1fr] gap-x-3 gap-y-1 text-sm">
            <Row label={decider.rung === 'exception' ? 'Exception' : 'Rule'}>
              {decider.rung === 'policy' || decider.rung === 'baseline' || decider.rung === 'fallback' ? (
                <PolicyLink id={decider.id ?? ''}>{decider.rule ?? ''}</PolicyLink>
              ) : (
                decider.rule
              )}
            </Row>
            {decider.list && (
              <Row label="List">
                <ListLink id={decider.list.id}>{decider.list.name}</ListLink>
              </Row>
            )}
            {decider.category && (
              <Row label="It is">
                <CategoryNames categories={[decider.category]} />
              </Row>
            )}
            {decider.entry && (
              <Row label="Entry">
                <Mono>{decider.entry.pattern}</Mono>
                <p className="text-soft">{decider.entry.explain}</p>
              </Row>
            )}
          </dl>
        )}
        {trial.atFull && trial.atFull !== trial.verdict && (
          <p className="text-sm">
            Where the whole URL is seen it would be <VerdictMark verdict={trial.atFull} />
            {trial.fullBecause ? `: ${trial.fullBecause}` : '.'}
          </p>
        )}
      </Section>
      {outlook && (
        <>
          <Section title={outlook.until ? `Until ${formatShort(outlook.until)}` : 'Time alone does not change it'}>
            {outlook.week.length > 1 && <Strip segments={outlook.week} label="The seven days to come" days />}
          </Section>
          <Section title="Any of these would change the verdict">
            <FlipList flips={outlook.flips} url={trial.url ?? trial.input} at={answer.at} />
          </Section>
        </>
      )}
      <Way trial={trial} />
      <Classified trial={trial} />
      <Belonging trial={trial} />
      <AlsoMatched trial={trial} />
      <Trace steps={trial.steps ?? []} />
    </div>
  )
}

function Section({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section aria-label={title} className="flex flex-col gap-1.5">
      <h3 className="font-semibold text-sm text-soft">{title}</h3>
      {children}
    </section>
  )
}

const gateNames = { dns: 'DNS gate', proxy: 'Proxy gate', icap: 'ICAP gate' }
const sightNames = { name: 'sees the name', tunnel: 'sees host and port', full: 'sees everything' }

/** The gates that the request passes, up to the one that stops it. */
function Way({ trial }: { trial: Trial }) {
  if (!trial.way) return null
  return (
    <Section title="On the way">
      <p className="text-sm text-soft">
        {wayName(trial.way)}
        {trial.way === 'dns' && ': it cuts nothing, so what runs goes on until it ends'}
      </p>
      <ol className="flex flex-col">
        {trial.stops?.map((s) => (
          <li key={s.gate} className="flex items-baseline gap-3 border-rule border-t py-1.5 text-sm" title={s.because}>
            <span className="w-20 shrink-0">{gateNames[s.gate]}</span>
            <span className="grow text-soft">
              {sightNames[s.sight]}
              {s.opened && ', the connection is opened'}
            </span>
            <VerdictMark verdict={s.verdict} />
          </li>
        ))}
      </ol>
    </Section>
  )
}

/** The categories of the URL and their sources. */
function Classified({ trial }: { trial: Trial }) {
  if (!trial.class) return null
  const first = trial.class.given[0]
  return (
    <Section title="It is">
      <p>
        <CategoryNames categories={trial.class.categories} />
        {first && (
          <span className="text-sm text-soft">
            {' '}
            by {first.pack?.name ?? first.list?.name ?? 'our correction'}, <Mono>{first.entry.pattern}</Mono>
          </span>
        )}{' '}
        <Link
          to="/lookup"
          search={(before) => ({ ...trialOf(before), of: trial.url })}
          className="text-reed text-sm underline underline-offset-2"
        >
          Look it up
        </Link>
      </p>
    </Section>
  )
}

/** The groups, the network and the policies of the request. */
function Belonging({ trial }: { trial: Trial }) {
  const b = trial.belongs
  if (!b) return null
  const names = (refs: { name?: string }[]) => refs.map((r) => r.name).join(', ')
  return (
    <Section title="Who asks">
      <dl className="grid grid-cols-[4rem_1fr] gap-x-3 gap-y-1 text-sm">
        <Row label="Groups">{names(b.groups) || 'none'}</Row>
        {b.network && <Row label="Network">{b.network.name}</Row>}
        <Row label="Policies">{names(b.policies) || 'none; the fallback decides'}</Row>
      </dl>
    </Section>
  )
}

function Row({ label, children }: { label: string; children: ReactNode }) {
  return (
    <>
      <dt className="text-soft">{label}</dt>
      <dd>{children}</dd>
    </>
  )
}

function ListLink({ id, children }: { id: string; children: string }) {
  return (
    <Link to="/lists/$id" params={{ id }} search={true} className="text-reed underline underline-offset-2">
      {children}
    </Link>
  )
}

function PolicyLink({ id, children }: { id: string; children: string }) {
  return (
    <Link to="/policies/$id" params={{ id }} search={true} className="text-reed underline underline-offset-2">
      {children}
    </Link>
  )
}

/** Entries that cover the URL besides the one that decided, list by list. */
function AlsoMatched({ trial }: { trial: Trial }) {
  const lists = (trial.matches ?? [])
    .map((match) => ({
      match,
      entries: [
        ...match.entries.filter((e) => trial.decider?.list?.id !== match.list.id || e.id !== trial.decider.entry?.id),
        ...match.carveOuts,
      ],
    }))
    .filter(({ entries }) => entries.length > 0)
  if (lists.length === 0) return null
  return (
    <Section title="Also matched">
      <ul className="flex flex-col gap-2">
        {lists.map(({ match, entries }) => (
          <li key={match.list.id}>
            <ListLink id={match.list.id}>{match.list.name}</ListLink>
            {match.in === 'no' && <span className="ml-2 text-ochre text-sm">carved out of it</span>}
            <ul>
              {entries.map((entry) => (
                <li key={entry.id} title={entry.explain}>
                  <Mono className="text-soft">{entry.text}</Mono>
                </li>
              ))}
            </ul>
          </li>
        ))}
      </ul>
    </Section>
  )
}

const rungNames: Record<Step['rung'], string> = {
  baseline: 'Baseline',
  unlocked: 'Unlocked',
  exception: 'Exceptions',
  stint: 'Stint',
  policy: 'Policy',
  fallback: 'Fallback',
}

/** Every rung and rule that the decision looked at, in order. */
function Trace({ steps }: { steps: Step[] }) {
  const [open, setOpen] = useState(false)
  return (
    <section aria-label="Every step">
      <button
        type="button"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
        className="font-semibold text-reed text-sm underline underline-offset-2"
      >
        {open ? 'Hide the steps' : `Show all ${steps.length} steps`}
      </button>
      {open && (
        <ol className="mt-2 flex flex-col">
          {steps.map((step, i) => {
            const title = step.rung === 'policy' ? (step.policy ?? '') : rungNames[step.rung]
            const before = steps[i - 1]
            const first = !before || before.rung !== step.rung || before.policy !== step.policy
            return (
              // biome-ignore lint/suspicious/noArrayIndexKey: steps have no other identity than their place
              <li key={i}>
                {first && (
                  <p className="pt-2 pb-0.5 font-semibold text-sm">
                    {title}
                    {empty(step) && <span className="font-normal text-soft">: {step.missing}</span>}
                  </p>
                )}
                {!empty(step) && <StepLine step={step} />}
              </li>
            )
          })}
        </ol>
      )}
    </section>
  )
}

/** Whether a step is a rung without anything that applies. */
const empty = (step: Step) => step.rule === undefined && step.policy === undefined

function StepLine({ step }: { step: Step }) {
  return (
    <div
      className={clsx(
        'grid grid-cols-[1fr_6.5rem] gap-x-3 border-rule border-t py-1 text-sm',
        step.outcome === 'decided' ? 'font-semibold' : 'text-soft',
      )}
    >
      <span className="flex items-center gap-2">
        {isVerdict(step.then) && <VerdictMark verdict={step.then} bare />}
        {step.rule ?? 'Otherwise'}
      </span>
      <span className={step.outcome === 'cannot tell' ? 'text-ochre' : undefined}>{step.outcome}</span>
      {(step.by || step.missing || step.next) && (
        <span className="col-span-2 pl-5.5 font-normal text-soft text-xs">
          {step.missing ?? step.by}
          {step.next && `${step.by ? '; ' : ''}${step.when}: next ${formatShort(step.next)}`}
        </span>
      )}
    </div>
  )
}
