import { clsx } from 'clsx'
import { type KeyboardEvent, useRef, useState } from 'react'
import type { TimeWindow } from './scheduleQueries'
import { cellMinutes, cellsADay, dayNames, paint, share, withCells, writeWeek } from './week'

type Props = {
  windows: TimeWindow[]
  /** Called with the week in the notation; without it, the grid is read-only. */
  onPaint?: (text: string) => void
  /** The windows are of an older text: until those of the present text arrive, the grid shows what was painted last. */
  stale?: boolean
}

/** A drag over the cells of the week. */
type Stroke = { from: number; to: number; on: boolean }

const time = (cell: number) => {
  const m = (cell % cellsADay) * cellMinutes
  return `${String(Math.floor(m / 60)).padStart(2, '0')}:${String(m % 60).padStart(2, '0')}`
}

/** A day of the grid: its name and its cells. */
const rowClass = 'grid grid-cols-[6rem_repeat(48,minmax(0,1fr))] items-center'

/** An ordinary week: drag over half hours to switch them; by keyboard, arrows move and the space bar switches. */
export function WeekGrid({ windows, onPaint, stale }: Props) {
  const [painted, setPainted] = useState<boolean[] | null>(null)
  const week = stale && painted ? painted : paint(windows)
  const [drag, setDrag] = useState<Stroke | null>(null)
  const stroke = useRef<Stroke | null>(null) // the cells that the pointer has switched so far, rendered or not
  const [focus, setFocus] = useState(16)
  const grid = useRef<HTMLFieldSetElement>(null)
  const shown = drag ? withCells(week, drag.from, drag.to, drag.on) : week
  const put = (next: boolean[]) => {
    setPainted(next)
    onPaint?.(writeWeek(next))
  }
  const move = (next: Stroke | null) => {
    stroke.current = next
    setDrag(next)
  }
  const finish = () => {
    const done = stroke.current
    if (done && onPaint) put(withCells(week, done.from, done.to, done.on))
    move(null)
  }
  const onKey = (event: KeyboardEvent) => {
    const step = { ArrowLeft: -1, ArrowRight: 1, ArrowUp: -cellsADay, ArrowDown: cellsADay }[event.key]
    if (step !== undefined) {
      event.preventDefault()
      const next = focus + step
      if (next < 0 || next >= 7 * cellsADay) return
      if (event.shiftKey && onPaint) {
        put(withCells(week, next, next, share(week, focus) > 0))
      }
      setFocus(next)
      grid.current?.querySelector<HTMLElement>(`[data-cell="${next}"]`)?.focus()
    } else if ((event.key === ' ' || event.key === 'Enter') && onPaint) {
      event.preventDefault()
      put(withCells(week, focus, focus, share(week, focus) === 0))
    }
  }
  return (
    <div className="select-none">
      <div aria-hidden className={`${rowClass} pb-0.5 text-soft text-xs`}>
        <span />
        {Array.from({ length: 8 }, (_, i) => (
          <span key={time(i * 6)} className="col-span-6">
            {time(i * 6).slice(0, 2)}
          </span>
        ))}
      </div>
      <fieldset
        ref={grid}
        aria-label="An ordinary week, in half hours"
        onKeyDown={onPaint ? onKey : undefined}
        onPointerUp={finish}
        onPointerLeave={finish}
      >
        {dayNames.map((name, day) => (
          <div key={name} className={rowClass}>
            <div className="text-sm">{name}</div>
            {Array.from({ length: cellsADay }, (_, i) => {
              const cell = day * cellsADay + i
              const part = share(shown, cell)
              return (
                <button
                  type="button"
                  key={cell}
                  disabled={onPaint === undefined}
                  data-cell={cell}
                  tabIndex={onPaint && focus === cell ? 0 : -1}
                  aria-pressed={part > 0}
                  aria-label={`${name} ${time(cell)}`}
                  className={clsx(
                    'h-6 border-rule border-b',
                    day === 0 && 'border-t',
                    i % 6 === 0 ? 'border-l border-l-edge' : 'border-l border-l-rule',
                    onPaint && 'cursor-crosshair!',
                    part > 0 && (part < 1 ? 'bg-reed/50' : 'bg-reed'),
                  )}
                  onFocus={() => setFocus(cell)}
                  onPointerDown={
                    onPaint
                      ? (e) => {
                          e.currentTarget.releasePointerCapture(e.pointerId)
                          move({ from: cell, to: cell, on: share(week, cell) === 0 })
                        }
                      : undefined
                  }
                  onPointerEnter={() => stroke.current && move({ ...stroke.current, to: cell })}
                />
              )
            })}
          </div>
        ))}
      </fieldset>
    </div>
  )
}
