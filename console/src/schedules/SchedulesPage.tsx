import { useQuery } from '@tanstack/react-query'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { Plus } from 'lucide-react'
import { Button } from '../ui/Button'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { ScheduleForm } from './ScheduleForm'
import { schedulesOptions, type Times } from './scheduleQueries'
import { formatIn } from './week'

/** All schedules with their present state, beside the one that is edited. */
export function SchedulesPage() {
  const all = useQuery(schedulesOptions)
  const { id } = useSearch({ from: '/schedules' })
  const navigate = useNavigate({ from: '/schedules' })
  const open = (to: string) => navigate({ search: (before) => ({ ...before, id: to }) })
  // A form may close late, when its schedule is saved. Another schedule that has been opened by then stays open.
  const close = (shown?: string) =>
    navigate({ search: (before) => (before.id === shown ? { ...before, id: undefined } : before) })
  const chosen = all.data?.find((s) => s.id === id)
  return (
    <div className="flex h-full flex-col overflow-y-auto px-5 pb-6">
      <div className="flex items-end gap-3 pt-4 pb-3">
        <div className="grow">
          <h1 className="font-semibold text-xl">Schedules</h1>
          <p className="text-soft">
            Weekly windows and dated lines in a time zone. Rules hold in a schedule, or outside it.
          </p>
        </div>
        <Button look="main" does="createSchedule" onClick={() => open('new')}>
          <Plus size={16} aria-hidden /> New schedule
        </Button>
      </div>
      {all.isPending && <Loading what="the schedules" />}
      {all.error && <ProblemNotice error={all.error} retry={() => all.refetch()} />}
      {all.data?.length === 0 && id !== 'new' && (
        <EmptyNotice
          title="No schedules yet"
          action={
            <Button look="main" does="createSchedule" onClick={() => open('new')}>
              Make the first schedule
            </Button>
          }
        >
          A schedule says when: office hours, the night shift, visiting. Paint it on a week, or write it down.
        </EmptyNotice>
      )}
      {all.data && all.data.length > 0 && (
        <table className="w-full border-collapse" onKeyDown={onRowKeys}>
          <thead>
            <tr>
              <Head>Schedule</Head>
              <Head>Now</Head>
              <Head>Next change</Head>
              <Head>Times</Head>
            </tr>
          </thead>
          <tbody>
            {all.data.map((s) => (
              <tr key={s.id} className={s.id === id ? 'bg-reed-wash' : 'hover:bg-wash'}>
                <td className={cellClass}>
                  <button
                    type="button"
                    onClick={() => open(s.id)}
                    aria-expanded={s.id === id}
                    className="font-semibold underline decoration-rule underline-offset-2 hover:decoration-ink"
                  >
                    {s.name}
                  </button>
                  <p className="text-sm text-soft">{s.about}</p>
                </td>
                <td className={`${cellClass} whitespace-nowrap`}>
                  {s.problem ? <span className="text-clay">cannot be read: {s.problem}</span> : <Now times={s.times} />}
                </td>
                <td className={`${cellClass} whitespace-nowrap`}>
                  {s.times.changes[0] ? (
                    formatIn(s.times.changes[0].at, s.zone)
                  ) : (
                    <span className="text-soft">none</span>
                  )}
                </td>
                <td className={cellClass}>
                  <span className="mono line-clamp-2 text-sm">{s.text.replaceAll('\n', '; ')}</span>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {(id === 'new' || chosen) && (
        <ScheduleForm key={`${id} ${chosen?.version}`} schedule={chosen} onClose={() => close(id)} />
      )}
    </div>
  )
}

function Now({ times }: { times: Times }) {
  if (times.never) return <span className="text-ochre">never in force</span>
  return times.inForce ? (
    <span className="font-semibold text-reed">● in force</span>
  ) : (
    <span className="text-soft">○ outside</span>
  )
}
