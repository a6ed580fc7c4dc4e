import { useQuery } from '@tanstack/react-query'
import { type ReactNode, useState } from 'react'
import type { Schemas } from '../api/client'
import { LookupLink } from '../categories/LookupLink'
import { useMay } from '../may/may'
import { FlipList } from '../trials/FlipList'
import { TryLink } from '../trials/TryLink'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { formatShort } from '../ui/clock'
import { Check, TextArea } from '../ui/Field'
import { count, formatNumber } from '../ui/format'
import { Menu, MenuItem } from '../ui/Menu'
import { Mono } from '../ui/Mono'
import { Loading, ProblemNotice } from '../ui/Notice'
import { SaveDialog } from '../ui/SaveDialog'
import { VerdictMark } from '../ui/VerdictMark'
import { adviceOptions, type RequestGroup, useEndStintFor, useGrantRequests, useRefuseRequests } from './requestQueries'
import { failedSaid, lengths, whoAsks } from './requestText'

/** Open requests for one site: who asks, why it was refused, and the answers. */
export function GroupPanel({ group }: { group: RequestGroup }) {
  const [off, setOff] = useState<string[]>([]) // requests that are not answered with the others
  const [refusing, setRefusing] = useState(false)
  const chosen = group.requests.filter((r) => !off.includes(r.id))
  const first = chosen[0] ?? group.requests[0]
  const advice = useQuery({ ...adviceOptions(first?.id ?? ''), enabled: first !== undefined })
  const grant = useGrantRequests()
  const announce = useAnnounce()
  if (!first) return null
  const ids = chosen.map((r) => r.id)
  const allow = (minutes: number, whom?: { id: string }) =>
    afterwards(grant.mutateAsync({ requests: ids, minutes, group: whom?.id }), (answered) =>
      announce(failedSaid(answered) ?? `Allowed for ${whom ? 'the group' : chosen.map(whoAsks).join(', ')}.`),
    )
  const forGroup = advice.data?.suggestions.find((s) => s.kind === 'grant group')?.group
  const failed = grant.data && failedSaid(grant.data)
  return (
    <section aria-label={`Requests for ${group.site}`} className="flex min-w-0 flex-col gap-4">
      <div className="flex flex-wrap items-center gap-2">
        <Allow
          label={group.requests.length > 1 ? `Allow for ${count(ids.length, 'asker', 'askers')}` : 'Allow'}
          disabled={ids.length === 0 || grant.isPending}
          onChoose={(minutes) => allow(minutes)}
          main
        />
        {forGroup && (
          <Allow
            label={`Allow for ${forGroup.name}`}
            disabled={ids.length === 0 || grant.isPending}
            onChoose={(minutes) => allow(minutes, forGroup)}
          />
        )}
        <Button does="refuseRequests" onClick={() => setRefusing(true)} disabled={ids.length === 0}>
          Refuse…
        </Button>
      </div>
      {grant.error && <ProblemNotice error={grant.error} />}
      {failed && <ProblemNotice error={new Error(failed)} />}
      {advice.isPending && <Loading what="why it was refused" />}
      {advice.error && <ProblemNotice error={advice.error} />}
      {advice.data && <Advice of={advice.data} person={first.person?.name} onStintEnded={() => announce('Ended.')} />}
      <h2 className="pt-2 font-semibold">{count(group.requests.length, 'person asks', 'people ask')}</h2>
      <ul aria-label="Who asks" className="-mt-3 flex flex-col border-rule border-t">
        {group.requests.map((r) => (
          <li key={r.id} className="flex items-baseline gap-3 border-rule border-b py-1.5">
            {group.requests.length > 1 && (
              <Check
                label={<span className="sr-only">Answer {whoAsks(r)}</span>}
                checked={!off.includes(r.id)}
                onChange={(on) => setOff(on ? off.filter((id) => id !== r.id) : [...off, r.id])}
              />
            )}
            <span className="w-40 shrink-0 font-semibold">{whoAsks(r)}</span>
            <span className="min-w-0 grow">
              {r.reason}
              <Mono className="block break-all text-soft">{r.url}</Mono>
            </span>
            <span className="shrink-0 text-right text-sm text-soft">
              {formatShort(r.madeAt)}
              <span className="block">{r.reference}</span>
            </span>
          </li>
        ))}
      </ul>
      {refusing && (
        <RefuseDialog
          ids={ids}
          whom={chosen.map(whoAsks).join(', ')}
          site={group.site}
          onClose={() => setRefusing(false)}
        />
      )}
    </section>
  )
}

type AllowProps = { label: string; disabled: boolean; onChoose: (minutes: number) => void; main?: boolean }

function Allow({ label, disabled, onChoose, main }: AllowProps) {
  return (
    <Menu
      trigger={
        <Button {...(main && { look: 'main' })} does="grantRequests" disabled={disabled}>
          {label}
        </Button>
      }
    >
      {lengths.map(([name, minutes]) => (
        <MenuItem key={name} onSelect={() => onChoose(minutes)}>
          {name}
        </MenuItem>
      ))}
    </Menu>
  )
}

type AdviceProps = { of: Schemas['AdviceOutputBody']; person: string | undefined; onStintEnded: () => void }

/** Why a page is refused, what it is, whom that meets, and what else would help. */
function Advice({ of: a, person, onStintEnded }: AdviceProps) {
  const may = useMay()
  const done = useEndStintFor()
  const flips = a.suggestions.flatMap((s) => (s.kind === 'change' && s.flip ? [s.flip] : []))
  const said = a.suggestions.filter((s) => s.kind !== 'change')
  const asker = a.request.person?.id
  return (
    <div className="flex flex-col gap-4">
      <Part title="Why">
        <p className="flex items-baseline gap-2">
          <VerdictMark verdict={a.verdict} />
          <span>{a.because}</span>
        </p>
        <p className="text-sm text-soft">
          {a.categories.length === 0 ? 'In no category' : a.categories.map((c) => c.name).join(', ')}
          {may('lookupUrls') && (
            <>
              {' '}
              (<LookupLink url={a.request.url}>look it up</LookupLink>)
            </>
          )}
          ;{' '}
          <TryLink url={a.request.url} {...(person && { as: person })}>
            try it
          </TryLink>
          . In the last week the site was refused {formatNumber(a.affected.requests)} times, to{' '}
          {count(a.affected.people, 'person', 'people')}.
        </p>
      </Part>
      <Part title="What would help">
        {said.length + flips.length === 0 && <p className="text-soft">Nothing that was tried.</p>}
        <ul>
          {said.map((s) => (
            <li key={s.text} className="flex items-center gap-3 border-rule border-t py-1.5 text-sm">
              <span className="grow">{s.text}</span>
              {s.stint && asker && (
                <Button
                  does="setDone"
                  disabled={done.isPending}
                  onClick={() =>
                    afterwards(done.mutateAsync({ stint: s.stint as string, person: asker }), () => onStintEnded())
                  }
                >
                  End it for {person}
                </Button>
              )}
            </li>
          ))}
        </ul>
        {done.error && <ProblemNotice error={done.error} />}
        {flips.length > 0 && <FlipList flips={flips} url={a.request.url} at="now" />}
      </Part>
    </div>
  )
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section>
      <h2 className="pb-1 font-semibold">{title}</h2>
      {children}
    </section>
  )
}

type RefuseProps = { ids: string[]; whom: string; site: string; onClose: () => void }

function RefuseDialog({ ids, whom, site, onClose }: RefuseProps) {
  const [answer, setAnswer] = useState('')
  const refuse = useRefuseRequests()
  return (
    <SaveDialog
      title={ids.length > 1 ? `Refuse ${ids.length} requests` : 'Refuse the request'}
      does="refuseRequests"
      description={`${whom} asked for ${site}, and read the answer.`}
      action="Refuse"
      ready={answer.trim() !== ''}
      save={() => refuse.mutateAsync({ requests: ids, answer })}
      told={(answered) => failedSaid(answered) ?? 'Refused.'}
      onClose={onClose}
    >
      {(wrong) => (
        <TextArea
          label="Answer"
          rows={3}
          value={answer}
          onChange={(e) => setAnswer(e.target.value)}
          error={wrong('answer')}
        />
      )}
    </SaveDialog>
  )
}
