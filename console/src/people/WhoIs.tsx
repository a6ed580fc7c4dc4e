import { useQuery } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import { X } from 'lucide-react'
import { trialOf } from '../address/trialSearch'
import { IconButton } from '../ui/Button'
import { formatEnd } from '../ui/clock'
import { Mono } from '../ui/Mono'
import { Loading, ProblemNotice } from '../ui/Notice'
import { VerdictMark } from '../ui/VerdictMark'
import { wayName } from '../ui/ways'
import { whoOptions } from './peopleQueries'

const combining: Record<string, string> = {
  position: 'the first counts',
  strictest: 'the strictest verdict counts',
  loosest: 'the loosest verdict counts',
}

/** Finds somebody by any name or address, and shows groups, network, policies in force and exceptions. */
export function WhoIs({ name, onClose }: { name: string; onClose: () => void }) {
  const found = useQuery(whoOptions(name))
  if (found.isPending) return <Loading what={`who ${name} is`} />
  return (
    <section aria-label="Who is this" className="mt-3 flex items-start gap-4 border-reed border-l-3 bg-leaf px-4 py-3">
      {found.error ? (
        <div className="grow">
          <ProblemNotice error={found.error} />
        </div>
      ) : (
        <dl className="grid grow grid-cols-[7rem_1fr] gap-x-4 gap-y-1">
          <dt className="font-semibold">{found.data.who.name}</dt>
          <dd className="text-soft">{found.data.who.address}</dd>
          <dt className="text-soft">Groups</dt>
          <dd>{found.data.groups.map((g) => g.name).join(', ') || 'none'}</dd>
          {found.data.network && (
            <>
              <dt className="text-soft">Network</dt>
              <dd>{found.data.network.name}</dd>
            </>
          )}
          <dt className="text-soft">Meets</dt>
          <dd>{wayName(found.data.way)}</dd>
          <dt className="text-soft">Policies</dt>
          <dd>
            {found.data.policies.length === 0 && 'none; the fallback decides'}
            {found.data.policies.map((p, i) => (
              <span key={p.id}>
                {i > 0 && ', '}
                <Link
                  to="/policies/$id"
                  params={{ id: p.id }}
                  search={trialOf}
                  className="text-reed underline underline-offset-2"
                >
                  {p.name}
                </Link>
              </span>
            ))}
            {found.data.policies.length > 1 && <span className="text-soft"> ({combining[found.data.combining]})</span>}
          </dd>
          <dt className="text-soft">Exceptions</dt>
          <dd>
            {found.data.exceptions.length === 0 && 'none'}
            {found.data.exceptions.map((e) => (
              <p key={e.id} className="flex items-baseline gap-2">
                <VerdictMark verdict={e.then} bare />
                <Mono>{e.entries.join(', ')}</Mono>
                <span className="text-sm text-soft">
                  {e.state === 'later' ? 'later' : ''} {e.until && formatEnd(e.until)}
                </span>
              </p>
            ))}
          </dd>
        </dl>
      )}
      <IconButton label="Close the answer" onClick={onClose}>
        <X size={16} aria-hidden />
      </IconButton>
    </section>
  )
}
