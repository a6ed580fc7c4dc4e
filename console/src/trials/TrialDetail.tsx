import { Link } from '@tanstack/react-router'
import { clsx } from 'clsx'
import { CategoryNames } from '../categories/CategoryNames'
import { Mono } from '../ui/Mono'
import { NoVerdict, VerdictMark } from '../ui/VerdictMark'
import type { Trial } from './trialQueries'

type Props = {
  trial: Trial
  /** Whose policy decided. */
  group: string
  policy: string
}

/** One answer, read like a sentence: the verdict, what decided, what else matched, and every rule in order. */
export function TrialDetail({ trial, group, policy }: Props) {
  if (trial.problem) {
    return (
      <div className="flex flex-col gap-2">
        <NoVerdict>no URL</NoVerdict>
        <Mono>{trial.input}</Mono>
        <p>Nothing to decide on: {trial.problem}.</p>
      </div>
    )
  }
  const { decider } = trial
  return (
    <div className="flex flex-col gap-5">
      <div className="flex flex-col gap-1.5">
        {trial.verdict && <VerdictMark verdict={trial.verdict} large />}
        <Mono>{trial.url ?? ''}</Mono>
        <p className="text-sm text-soft">
          for <span className="text-ink">{group}</span> under the policy <span className="text-ink">{policy}</span>
        </p>
      </div>
      <section aria-label="What decided" className="flex flex-col gap-1.5">
        <h3 className="font-semibold text-sm text-soft">Because</h3>
        {decider ? (
          <dl className="grid grid-cols-[4rem_1fr] gap-x-3 gap-y-1">
            <Row label="Rule">{decider.rule}</Row>
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
                <p className="text-sm text-soft">{decider.entry.explain}</p>
              </Row>
            )}
          </dl>
        ) : (
          <p>{trial.because}</p>
        )}
      </section>
      <Classified trial={trial} />
      <AlsoMatched trial={trial} />
      <section aria-label="Rules in order" className="flex flex-col gap-1.5">
        <h3 className="font-semibold text-sm text-soft">Rules in order</h3>
        <ol className="flex flex-col">
          {trial.steps?.map((step, i) => (
            <li
              // biome-ignore lint/suspicious/noArrayIndexKey: rules have no other identity than their place
              key={i}
              className={clsx(
                'flex gap-3 border-rule border-t py-1.5',
                step.outcome === 'decided' ? 'font-semibold' : 'text-soft',
              )}
            >
              <span className="w-4 shrink-0 text-right">{i + 1}</span>
              <span className="grow">{step.rule}</span>
              <span className="text-sm">{step.outcome}</span>
            </li>
          ))}
          <li className={clsx('flex gap-3 border-rule border-t py-1.5', decider ? 'text-soft' : 'font-semibold')}>
            <span className="w-4 shrink-0" />
            <span className="grow">Otherwise</span>
            <span className="text-sm">{decider ? 'not reached' : 'decided'}</span>
          </li>
        </ol>
      </section>
    </div>
  )
}

/** What the URL is, and who says so. */
function Classified({ trial }: { trial: Trial }) {
  if (!trial.class) return null
  const first = trial.class.given[0]
  return (
    <section aria-label="What it is" className="flex flex-col gap-1">
      <h3 className="font-semibold text-sm text-soft">It is</h3>
      <p>
        <CategoryNames categories={trial.class.categories} />
        {first && (
          <span className="text-sm text-soft">
            {' '}
            by {first.pack?.name ?? first.list?.name ?? 'our correction'}, <Mono>{first.entry.pattern}</Mono>
          </span>
        )}
      </p>
      <p className="text-sm">
        <Link
          to="/lookup"
          search={(before) => ({ url: before.url, of: trial.url })}
          className="text-reed underline underline-offset-2"
        >
          Look it up
        </Link>
      </p>
    </section>
  )
}

function Row({ label, children }: { label: string; children: React.ReactNode }) {
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
    <section aria-label="Also matched" className="flex flex-col gap-1.5">
      <h3 className="font-semibold text-sm text-soft">Also matched</h3>
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
    </section>
  )
}
