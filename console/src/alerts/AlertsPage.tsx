import { useQuery } from '@tanstack/react-query'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { Plus } from 'lucide-react'
import { useState } from 'react'
import { useMay } from '../may/may'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { Mono } from '../ui/Mono'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { ViewButtons } from '../ui/ViewButtons'
import { AlertDialog } from './AlertDialog'
import { type Alert, alertsOptions, type Forward, incidentsOptions, useTestAlert } from './alertQueries'
import { alertText } from './alertText'
import { ForwardsView } from './ForwardsView'
import { IncidentList } from './IncidentList'

const views = { open: 'Going on', past: 'Past', alerts: 'Alerts', forwards: 'Sent on' } as const

/** Who is told of what, what was found, and where records are sent on. */
export function AlertsPage() {
  const { view = 'open' } = useSearch({ from: '/alerts' })
  const navigate = useNavigate({ from: '/alerts' })
  const may = useMay()
  const alerts = useQuery(alertsOptions)
  const open = useQuery(incidentsOptions(true))
  const [editing, setEditing] = useState<Alert | 'new' | null>(null)
  const [forward, setForward] = useState<Forward | 'new' | null>(null)
  const { forwards: _f, ...mine } = views
  const names: Partial<typeof views> = may('getForwards') ? views : mine
  return (
    <div className="flex h-full flex-col gap-4 overflow-y-auto px-5 pb-6">
      <div className="flex items-start gap-3 pt-4">
        <div className="grow">
          <h1 className="font-semibold text-xl">Alerts</h1>
          <p className="text-soft">
            What somebody should hear of: told once, and again only while nobody has seen to it.
          </p>
        </div>
        {view === 'forwards' ? (
          <Button look="main" does="addForward" onClick={() => setForward('new')}>
            <Plus size={16} aria-hidden /> Send records on
          </Button>
        ) : (
          <Button look="main" does="addAlert" onClick={() => setEditing('new')}>
            <Plus size={16} aria-hidden /> New alert
          </Button>
        )}
      </div>
      <ViewButtons
        names={names as Record<keyof typeof views, string>}
        chosen={view}
        counts={{ open: open.data?.length, alerts: alerts.data?.length }}
        onChoose={(v) => navigate({ search: { view: v === 'open' ? undefined : v } })}
      />
      {view === 'open' && <IncidentList open />}
      {view === 'past' && <IncidentList open={false} />}
      {view === 'alerts' && alerts.isPending && <Loading what="the alerts" />}
      {view === 'alerts' && alerts.error && <ProblemNotice error={alerts.error} retry={() => alerts.refetch()} />}
      {view === 'alerts' && alerts.data && <AlertTable alerts={alerts.data} onOpen={setEditing} />}
      {view === 'forwards' && <ForwardsView open={forward} onOpen={setForward} />}
      {editing && <AlertDialog alert={editing === 'new' ? undefined : editing} onClose={() => setEditing(null)} />}
    </div>
  )
}

function AlertTable({ alerts, onOpen }: { alerts: Alert[]; onOpen: (a: Alert) => void }) {
  if (alerts.length === 0) {
    return (
      <EmptyNotice title="No alerts yet">
        An alert counts what a search finds, or looks after gates, packs and expectations, and tells by mail or a signed
        post.
      </EmptyNotice>
    )
  }
  return (
    <table className="w-full border-collapse" onKeyDown={onRowKeys}>
      <thead>
        <tr>
          <Head>Alert</Head>
          <Head>Tells</Head>
          <Head>Last message</Head>
          <Head>
            <span className="sr-only">Do</span>
          </Head>
        </tr>
      </thead>
      <tbody>
        {alerts.map((a) => (
          <tr key={a.id} className="hover:bg-wash">
            <td className={cellClass}>
              <button
                type="button"
                onClick={() => onOpen(a)}
                className="text-left font-semibold underline decoration-rule underline-offset-2 hover:decoration-ink"
              >
                {a.name}
              </button>
              {a.off && <span className="ml-2 text-ochre text-sm">off</span>}
              <p className="text-sm text-soft">
                {alertText(a)} {a.query && <Mono>{a.query}</Mono>}
              </p>
            </td>
            <td className={`${cellClass} text-sm`}>
              {a.to?.map((t) => (
                <p key={t}>{t}</p>
              ))}
              {a.hook && (
                <p>
                  {a.hook} {a.signed && <span className="text-soft">signed</span>}
                </p>
              )}
              {!a.to?.length && !a.hook && <span className="text-soft">nobody: it only stands here</span>}
              {a.quiet && (
                <p className="text-soft">
                  quiet {a.quiet.from} to {a.quiet.until}
                </p>
              )}
            </td>
            <td className={`${cellClass} text-sm`}>
              <Last alert={a} />
            </td>
            <td className={`${cellClass} text-right`}>{(a.to?.length || a.hook) && <Test alert={a} />}</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

function Last({ alert }: { alert: Alert }) {
  const last = alert.deliveries[0]
  if (!last) return <span className="text-soft">none yet</span>
  return (
    <>
      <p>
        {last.subject}, {last.doneAt ? formatMoment(last.doneAt) : last.state}
      </p>
      {last.problem && <p className="text-clay">{last.problem}</p>}
    </>
  )
}

function Test({ alert }: { alert: Alert }) {
  const test = useTestAlert()
  const announce = useAnnounce()
  if (test.error) return <ProblemNotice error={test.error} />
  return (
    <button
      type="button"
      disabled={test.isPending}
      aria-label={`Test ${alert.name}`}
      onClick={() =>
        afterwards(test.mutateAsync(alert.id), (sent) =>
          announce(sent.messages === 1 ? 'A test is on its way.' : `${sent.messages} tests are on their way.`),
        )
      }
      className="text-reed text-sm underline underline-offset-2"
    >
      Test
    </button>
  )
}
