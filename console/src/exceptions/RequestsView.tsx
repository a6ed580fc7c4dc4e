import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { TextArea } from '../ui/Field'
import { Menu, MenuItem } from '../ui/Menu'
import { Mono } from '../ui/Mono'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { SaveDialog } from '../ui/SaveDialog'
import { cellClass, Head } from '../ui/Table'
import { type AccessRequest, requestsOptions, useGrantRequest, useRefuseRequest } from './requestQueries'

/** Who asks for a page that was refused, and what was answered. */
export function RequestsView({ filter }: { filter: string }) {
  const all = useQuery(requestsOptions)
  const [refusing, setRefusing] = useState<AccessRequest | null>(null)
  if (all.isPending) return <Loading what="the requests" />
  if (all.error) return <ProblemNotice error={all.error} retry={() => all.refetch()} />
  const shown = all.data.filter((r) =>
    `${r.url} ${r.reason} ${whoAsks(r)} ${r.reference}`.toLowerCase().includes(filter.toLowerCase()),
  )
  if (shown.length === 0) {
    return (
      <EmptyNotice title={all.data.length === 0 ? 'No requests yet' : 'None match'}>
        {all.data.length === 0 ? 'People ask for access from the block page of a gate.' : 'Take the filter away.'}
      </EmptyNotice>
    )
  }
  return (
    <>
      <table className="w-full border-collapse">
        <thead>
          <tr>
            <Head className="w-[34%]">Page</Head>
            <Head>Needed for</Head>
            <Head>Who</Head>
            <Head>Refused by</Head>
            <Head>State</Head>
          </tr>
        </thead>
        <tbody>
          {shown.map((r) => (
            <Row key={r.id} request={r} onRefuse={() => setRefusing(r)} />
          ))}
        </tbody>
      </table>
      {refusing && <RefuseDialog request={refusing} onClose={() => setRefusing(null)} />}
    </>
  )
}

const whoAsks = (r: AccessRequest) => r.person?.name || r.address || 'somebody unknown'

const lengths: [string, number][] = [
  ['for an hour', 60],
  ['for four hours', 240],
  ['for a day', 1440],
  ['for a week', 10_080],
]

function Row({ request: r, onRefuse }: { request: AccessRequest; onRefuse: () => void }) {
  const grant = useGrantRequest()
  const announce = useAnnounce()
  return (
    <tr className={r.state === 'open' ? 'hover:bg-wash' : 'text-soft hover:bg-wash'}>
      <td className={`${cellClass} break-all`}>
        <Mono>{r.url}</Mono>
        <p className="text-sm text-soft">
          {formatMoment(r.madeAt)}, reference {r.reference}
        </p>
        {grant.error && <ProblemNotice error={grant.error} />}
      </td>
      <td className={cellClass}>{r.reason}</td>
      <td className={cellClass}>{whoAsks(r)}</td>
      <td className={cellClass}>{r.by}</td>
      <td className={`${cellClass} whitespace-nowrap`}>
        {r.state === 'open' ? (
          <span className="flex gap-2">
            <Menu
              trigger={
                <Button look="main" does="grantRequest" aria-label={`Allow ${r.url}`}>
                  Allow
                </Button>
              }
            >
              {lengths.map(([name, minutes]) => (
                <MenuItem
                  key={name}
                  onSelect={() =>
                    afterwards(grant.mutateAsync({ id: r.id, minutes }), (done) =>
                      announce(`${whoAsks(r)}: ${done.answer}`),
                    )
                  }
                >
                  {name}
                </MenuItem>
              ))}
            </Menu>
            <Button does="refuseRequest" onClick={onRefuse} aria-label={`Refuse ${r.url}`}>
              Refuse
            </Button>
          </span>
        ) : (
          <>
            {r.state} by {r.answeredBy}
            <p className="max-w-60 whitespace-normal text-sm">{r.answer}</p>
          </>
        )}
      </td>
    </tr>
  )
}

function RefuseDialog({ request, onClose }: { request: AccessRequest; onClose: () => void }) {
  const [answer, setAnswer] = useState('')
  const refuse = useRefuseRequest()
  return (
    <SaveDialog
      title="Refuse the request"
      does="refuseRequest"
      description={`${whoAsks(request)} asked for ${request.url}, and reads the answer.`}
      action="Refuse"
      ready={answer.trim() !== ''}
      save={() => refuse.mutateAsync({ id: request.id, answer })}
      told={() => 'Refused.'}
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
