import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Concerns } from '../may/may'
import { Button } from '../ui/Button'
import { formatShort } from '../ui/clock'
import { count } from '../ui/format'
import { Mono } from '../ui/Mono'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { AnsweredRequests } from './AnsweredRequests'
import { DeskMailDialog } from './DeskMailDialog'
import { GroupPanel } from './GroupPanel'
import { practicesOptions, requestGroupsOptions, requestsOptions, timesOptions } from './requestQueries'
import { waited } from './requestText'

/** The help desk: who asks for pages that were refused, by site; why that was; what would help; and what was answered. */
export function RequestsPage() {
  const groups = useQuery(requestGroupsOptions)
  const all = useQuery(requestsOptions)
  const times = useQuery(timesOptions)
  const [chosen, setChosen] = useState<string | null>(null)
  const [mailing, setMailing] = useState(false)
  if (groups.isPending) return <Loading what="the requests" />
  if (groups.error) return <ProblemNotice error={groups.error} retry={() => groups.refetch()} />
  const group = groups.data.groups.find((g) => g.site === chosen) ?? groups.data.groups[0]
  const answered = (all.data ?? []).filter((r) => r.state !== 'open')
  const t = times.data
  return (
    <Concerns people>
      <div className="h-full overflow-y-auto px-5 pb-6">
        <div className="flex items-end gap-3 pt-4 pb-3">
          <div className="grow">
            <h1 className="font-semibold text-xl">Requests</h1>
            <p className="text-soft">
              People who ask for a page that was refused. What is allowed holds at once, for whoever asked alone.
              {t && t.granted + t.refused > 0 && (
                <>
                  {' '}
                  In the last 30 days half were answered within {waited(t.half)}, nine of ten within {waited(t.nine)}.
                </>
              )}
            </p>
          </div>
          <Button does="putDeskMail" onClick={() => setMailing(true)}>
            Mail to the desk
          </Button>
        </div>
        {groups.data.more && (
          <p role="status" className="mb-3 border-ochre border-l-3 pl-3">
            More people wait than are shown: these are the 500 requests that were made last. Answer some of them first.
          </p>
        )}
        {!group ? (
          <EmptyNotice title="No request waits">People ask for access from the block page of a gate.</EmptyNotice>
        ) : (
          <div className="grid grid-cols-[17rem_minmax(0,1fr)] gap-6">
            <ul aria-label="Sites that are asked for" className="flex flex-col">
              {groups.data.groups.map((g) => (
                <li key={g.site}>
                  <button
                    type="button"
                    aria-current={g.site === group.site}
                    onClick={() => setChosen(g.site)}
                    className={`w-full border-rule border-b border-l-3 px-3 py-2 text-left hover:bg-wash ${
                      g.site === group.site ? 'border-l-reed bg-reed-wash' : 'border-l-transparent'
                    }`}
                  >
                    <Mono className="break-all font-semibold">{g.site}</Mono>
                    <span className="block text-sm text-soft">
                      {count(g.requests.length, 'request', 'requests')}, since{' '}
                      {formatShort(g.requests[0]?.madeAt ?? '')}
                    </span>
                  </button>
                </li>
              ))}
            </ul>
            <GroupPanel key={group.site} group={group} />
          </div>
        )}
        {answered.length > 0 && <AnsweredRequests requests={answered} />}
        {mailing && <MailDialog onClose={() => setMailing(false)} />}
      </div>
    </Concerns>
  )
}

function MailDialog({ onClose }: { onClose: () => void }) {
  const practices = useQuery(practicesOptions)
  return practices.data ? <DeskMailDialog addresses={practices.data.deskMail} onClose={onClose} /> : null
}
