import { useQuery } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import { CalendarPlus, Download } from 'lucide-react'
import { type FormEvent, useCallback, useRef, useState } from 'react'
import { trialOf } from '../address/trialSearch'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button, buttonClass } from '../ui/Button'
import { Choice, TextArea, TextField } from '../ui/Field'
import { fieldProblems } from '../ui/fieldProblems'
import { ProblemNotice } from '../ui/Notice'
import { useSettled } from '../ui/useSettled'
import {
  explainScheduleOptions,
  type Schedule,
  useDeleteSchedule,
  useReadCalendar,
  useSaveSchedule,
} from './scheduleQueries'
import { WeekGrid } from './WeekGrid'
import { formatIn } from './week'

export function ScheduleForm({ schedule, onClose }: { schedule?: Schedule; onClose: () => void }) {
  const [form, setForm] = useState({
    name: schedule?.name ?? '',
    about: schedule?.about ?? '',
    zone: schedule?.zone ?? '',
    text: schedule?.text ?? 'mon-fri 09:00-17:00',
  })
  const settled = useSettled(form.text)
  const explained = useQuery(explainScheduleOptions(settled, useSettled(form.zone)))
  const stale = settled !== form.text || explained.isFetching
  const save = useSaveSchedule(schedule)
  const remove = useDeleteSchedule()
  const calendar = useReadCalendar(form.zone)
  const [as, setAs] = useState<'on' | 'not on'>('not on')
  const file = useRef<HTMLInputElement>(null)
  const opened = useCallback((form: HTMLFormElement | null) => form?.scrollIntoView({ block: 'start' }), [])
  const announce = useAnnounce()
  const { wrong, others } = fieldProblems(save.error)
  const answer = explained.data
  const submit = (event: FormEvent) => {
    event.preventDefault()
    afterwards(save.mutateAsync({ ...form, zone: form.zone || undefined }), (saved) => {
      announce(`Saved ${saved.name}.`)
      if (!schedule) onClose()
    })
  }
  /** Replaces the weekly lines by a painted week; dated lines and comments stay. */
  const painted = (week: string) => {
    const rest = form.text
      .split(/[\n;]/)
      .map((line) => line.trim())
      .filter((line) => /^(on|not\s+on)\s|^#/i.test(line))
    setForm({ ...form, text: [week, ...rest].filter((line) => line !== '').join('\n') })
  }
  const take = (chosen: Blob) =>
    afterwards(calendar.mutateAsync({ file: chosen, as }), (read) => {
      const rest = form.text.split('\n').filter((line) => !line.toLowerCase().startsWith(`${as} `))
      setForm({ ...form, text: [...rest, read.lines].filter((line) => line !== '').join('\n') })
      announce(`${read.events} events read; look, and save.`)
    })
  return (
    <form
      ref={opened}
      onSubmit={submit}
      aria-label={schedule ? schedule.name : 'New schedule'}
      className="flex min-h-svh flex-col gap-5 pt-6"
    >
      <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)_14rem] gap-4">
        <TextField
          label="Name"
          value={form.name}
          onChange={(e) => setForm({ ...form, name: e.target.value })}
          error={wrong('name')}
        />
        <TextField
          label="What it is for"
          value={form.about}
          onChange={(e) => setForm({ ...form, about: e.target.value })}
        />
        <TextField
          label="Time zone"
          placeholder="the organisation's"
          value={form.zone}
          onChange={(e) => setForm({ ...form, zone: e.target.value })}
          error={wrong('zone')}
        />
      </div>
      <WeekGrid windows={answer?.times.weekly ?? schedule?.times.weekly ?? []} onPaint={painted} stale={stale} />
      <p className="-mt-3 text-sm text-soft">
        Drag over the week to paint it; by keyboard, arrows move and the space bar switches half an hour.
      </p>
      <div className="grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] gap-8">
        <div className="flex flex-col gap-3">
          <TextArea
            label="Written"
            rows={6}
            spellCheck={false}
            value={form.text}
            onChange={(e) => setForm({ ...form, text: e.target.value })}
            hint="mon-fri 09:00-12:00, 13:00-17:00 · fri 20:00-08:00 crosses midnight · on 2026-12-24 09:00-12:00 · not on 2026-12-25..2026-12-26"
            error={answer?.problem?.message ?? wrong('text')}
          />
          <div className="flex flex-wrap items-end gap-3">
            <Choice
              label="Events of a calendar file"
              value={as}
              onChange={(value) => setAs(value as typeof as)}
              options={[
                ['not on', 'take their days away'],
                ['on', 'add their times'],
              ]}
            />
            <Button
              className="h-9!"
              does="editSchedule"
              disabled={calendar.isPending}
              onClick={() => file.current?.click()}
            >
              <CalendarPlus size={15} aria-hidden /> Choose the file
            </Button>
            <input
              ref={file}
              type="file"
              hidden
              aria-label="Calendar file"
              accept=".ics,text/calendar"
              onChange={(e) => {
                const chosen = e.target.files?.[0]
                if (chosen) take(chosen)
                e.target.value = ''
              }}
            />
            {schedule && (
              <a href={`/api/v1/schedules/${schedule.id}/calendar`} download className={`${buttonClass()} h-9!`}>
                <Download size={15} aria-hidden /> Save as a calendar
              </a>
            )}
          </div>
          {calendar.error && <ProblemNotice error={calendar.error} />}
          {calendar.data && calendar.data.left.length > 0 && (
            <p className="text-ochre text-sm">Left out: {calendar.data.left.join('; ')}</p>
          )}
        </div>
        <section aria-label="The next changes">
          <h2 className="pb-1 font-semibold text-sm text-soft">The next changes</h2>
          {answer && answer.times.changes.length === 0 && (
            <p className="text-soft">
              {answer.times.never ? 'It is never in force.' : 'It is always in force, and never changes.'}
            </p>
          )}
          <ol>
            {answer?.times.changes.map((c) => (
              <li key={c.at} className="flex gap-3 border-rule border-b py-0.5">
                <span className="grow">{formatIn(c.at, answer.zone)}</span>
                <span className={c.begins ? 'text-reed' : 'text-soft'}>{c.begins ? '● in force' : '○ outside'}</span>
              </li>
            ))}
          </ol>
          <WhereUsed schedule={schedule} />
        </section>
      </div>
      {others()}
      {remove.error && <ProblemNotice error={remove.error} />}
      <div className="flex gap-2">
        <Button
          type="submit"
          look="main"
          does="editSchedule"
          disabled={form.name.trim() === '' || answer?.problem !== undefined || save.isPending}
        >
          {schedule ? 'Save' : 'Make the schedule'}
        </Button>
        <Button onClick={onClose}>Close</Button>
        <span className="grow" />
        {schedule && (
          <Button
            look="danger"
            does="deleteSchedule"
            onClick={() =>
              afterwards(remove.mutateAsync(schedule), () => {
                announce(`Deleted ${schedule.name}.`)
                onClose()
              })
            }
          >
            Delete the schedule
          </Button>
        )}
      </div>
    </form>
  )
}

/** The policies whose rules are in force inside or outside a schedule. */
function WhereUsed({ schedule }: { schedule?: Schedule }) {
  if (!schedule) return null
  return (
    <div className="pt-4 text-sm">
      <h2 className="pb-1 font-semibold text-soft">Where it is used</h2>
      {schedule.usedBy.length === 0 && <p className="text-ochre">No rule asks it. Rules hold in it, or outside it.</p>}
      {schedule.usedBy.map((use) => (
        <p key={use.id}>
          {use.kind === 'policy' ? (
            <Link
              to="/policies/$id"
              params={{ id: use.id }}
              search={trialOf}
              className="text-reed underline underline-offset-2"
            >
              {use.name}
            </Link>
          ) : (
            <Link to="/changes" search={{ view: 'expected' }} className="text-reed underline underline-offset-2">
              {use.kind} {use.name}
            </Link>
          )}
        </p>
      ))}
    </div>
  )
}
