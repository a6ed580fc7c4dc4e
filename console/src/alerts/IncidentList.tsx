import { useQuery } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import { useState } from 'react'
import { useMay } from '../may/may'
import { formatMoment } from '../ui/clock'
import { TextField } from '../ui/Field'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { SaveDialog } from '../ui/SaveDialog'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { type Incident, incidentsOptions, useAcknowledge } from './alertQueries'

/** What alerts have found: what goes on first. */
export function IncidentList({ open }: { open: boolean }) {
  const found = useQuery(incidentsOptions(open))
  const may = useMay()
  const [seeing, setSeeing] = useState<Incident | null>(null)
  if (found.isPending) return <Loading what="what was found" />
  if (found.error) return <ProblemNotice error={found.error} retry={() => found.refetch()} />
  if (found.data.length === 0) {
    return (
      <EmptyNotice title={open ? 'Nothing goes on' : 'Nothing was found yet'}>
        {open ? 'What is over, or has been acknowledged, is under Past.' : 'What alerts find is kept for 400 days.'}
      </EmptyNotice>
    )
  }
  return (
    <>
      <table className="w-full border-collapse" onKeyDown={onRowKeys}>
        <thead>
          <tr>
            <Head>Since</Head>
            <Head>Found</Head>
            <Head>Alert</Head>
            <Head>Told</Head>
            <Head>Over</Head>
            <Head>
              <span className="sr-only">Do</span>
            </Head>
          </tr>
        </thead>
        <tbody>
          {found.data.map((i) => (
            <tr key={i.id} className="hover:bg-wash">
              <td className={`${cellClass} whitespace-nowrap text-sm`}>{formatMoment(i.since)}</td>
              <td className={cellClass}>
                <p>{i.said}</p>
                {i.query && (
                  <Link
                    to="/journal"
                    search={{ q: i.query }}
                    className="text-sm underline decoration-rule underline-offset-2 hover:decoration-ink"
                  >
                    Look at the requests
                  </Link>
                )}
                {i.acknowledgedBy && (
                  <p className="text-sm text-soft">
                    Seen by {i.acknowledgedBy}
                    {i.reason && `: ${i.reason}`}
                  </p>
                )}
              </td>
              <td className={cellClass}>{i.name}</td>
              <td className={`${cellClass} whitespace-nowrap text-sm`}>
                {i.toldAt ? formatMoment(i.toldAt) : <span className="text-soft">not yet</span>}
              </td>
              <td className={`${cellClass} whitespace-nowrap text-sm`}>
                {i.overAt ? formatMoment(i.overAt) : <span className="text-clay">goes on</span>}
              </td>
              <td className={`${cellClass} text-right`}>
                {!i.acknowledgedAt && may('acknowledgeIncident') && (
                  <button
                    type="button"
                    onClick={() => setSeeing(i)}
                    aria-label={`Acknowledge: ${i.said}`}
                    className="whitespace-nowrap text-reed text-sm underline underline-offset-2"
                  >
                    Acknowledge…
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {seeing && <AcknowledgeDialog incident={seeing} onClose={() => setSeeing(null)} />}
    </>
  )
}

function AcknowledgeDialog({ incident, onClose }: { incident: Incident; onClose: () => void }) {
  const [reason, setReason] = useState('')
  const acknowledge = useAcknowledge()
  return (
    <SaveDialog
      title="Acknowledge"
      does="acknowledgeIncident"
      description={incident.said}
      action="I have seen to it"
      ready
      save={() => acknowledge.mutateAsync({ id: incident.id, reason })}
      told={() => 'Nobody is told of it again.'}
      onClose={onClose}
    >
      {(wrong) => (
        <TextField
          label="What is known of it"
          value={reason}
          onChange={(e) => setReason(e.target.value)}
          error={wrong('reason')}
          autoFocus
        />
      )}
    </SaveDialog>
  )
}
