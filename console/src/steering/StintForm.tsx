import { useQuery } from '@tanstack/react-query'
import { Pencil, Plus } from 'lucide-react'
import { useState } from 'react'
import { ApiProblem } from '../api/client'
import { Button, IconButton } from '../ui/Button'
import { formatHour } from '../ui/clock'
import { fieldClass, TextField } from '../ui/Field'
import { count } from '../ui/format'
import { Loading, ProblemNotice } from '../ui/Notice'
import { useSettled } from '../ui/useSettled'
import { Big, Question } from './Big'
import { OwnListDialog } from './OwnListDialog'
import { StintPreview } from './StintPreview'
import { type LedGroup, membersOptions, type OwnList, previewOptions, type Steering, useStart } from './steeringQueries'
import { atFirst, type Choice, type Kind, stintOf, toggled } from './stintForm'

const kinds: { kind: Kind; title: string; note: string }[] = [
  { kind: 'only', title: 'Only chosen lists', note: 'Everything else is closed.' },
  { kind: 'but', title: 'All but chosen lists', note: 'The usual rules decide the rest.' },
  { kind: 'nothing', title: 'Pause the web', note: 'Everything is closed.' },
]

const lengths = [10, 20, 30, 45, 60, 90]

/** What a lead chooses before a stint begins, and what it would do. */
export function StintForm({ group, steering }: { group: LedGroup; steering: Steering }) {
  const [choice, setChoice] = useState<Choice>(atFirst)
  const [edited, setEdited] = useState<OwnList | 'new' | null>(null)
  const body = stintOf(group.id, choice)
  const preview = useQuery(previewOptions(useSettled(body)))
  const start = useStart()
  const own = steering.own.filter((l) => l.group.id === group.id)
  const put = (change: Partial<Choice>) => setChoice((before) => ({ ...before, ...change }))
  const runs = start.error instanceof ApiProblem && start.error.type === '/problems/stint-runs'
  const begin = (instead: boolean) => body && start.mutate({ ...body, instead })
  return (
    <div className="grid gap-6 lg:grid-cols-[minmax(0,1fr)_22rem]">
      <div className="flex flex-col gap-5">
        <Question text="What is open?">
          {kinds.map(({ kind, title, note }) => (
            <Big key={kind} chosen={choice.kind === kind} onChoose={() => put({ kind })} title={title} note={note} />
          ))}
        </Question>
        {choice.kind !== 'nothing' && (
          <Question text="Which lists?">
            {steering.lists.map((l) => (
              <Big
                key={l.id}
                chosen={choice.lists.includes(l.id)}
                onChoose={() => put({ lists: toggled(choice.lists, l.id) })}
                title={l.name}
                note={count(l.entries, 'entry', 'entries')}
              />
            ))}
            {own.map((l) => (
              <span key={l.id} className="flex items-stretch">
                <Big
                  chosen={choice.own.includes(l.id)}
                  onChoose={() => put({ own: toggled(choice.own, l.id) })}
                  title={l.name}
                  note={`yours, ${count(l.entries.length, 'entry', 'entries')}`}
                />
                <IconButton label={`Edit ${l.name}`} onClick={() => setEdited(l)}>
                  <Pencil size={16} aria-hidden />
                </IconButton>
              </span>
            ))}
            <Button does="addOwnList" className="min-h-12!" onClick={() => setEdited('new')}>
              <Plus size={15} aria-hidden /> List of your own
            </Button>
            {steering.lists.length + own.length === 0 && (
              <p className="basis-full text-soft text-sm">No list is marked for stints yet; an editor can mark some.</p>
            )}
          </Question>
        )}
        <Question text="Until when?">
          {lengths.map((minutes) => (
            <Big
              key={minutes}
              chosen={choice.ends === minutes}
              onChoose={() => put({ ends: minutes })}
              title={`${minutes} min`}
            />
          ))}
          {steering.schedules.map((w) => (
            <Big
              key={w.id}
              chosen={choice.ends === w.id}
              onChoose={() => put({ ends: w.id })}
              title={`${w.name} ends`}
              note={`at ${formatHour(w.until)}`}
            />
          ))}
        </Question>
        <Question text="For whom?">
          <Big
            chosen={choice.people === null}
            onChoose={() => put({ people: null })}
            title="The whole group"
            note={count(group.people, 'person', 'people')}
          />
          <Big
            chosen={choice.people !== null}
            onChoose={() => put({ people: choice.people ?? [] })}
            title="Some of them"
            note={choice.people ? `${choice.people.length} chosen` : 'you choose'}
          />
          {choice.people && (
            <Members
              group={group.id}
              chosen={choice.people}
              onToggle={(id) => put({ people: toggled(choice.people ?? [], id) })}
            />
          )}
        </Question>
        <TextField
          label="What for"
          placeholder="Drug rounds"
          value={choice.reason}
          onChange={(e) => put({ reason: e.target.value })}
          className="max-w-md"
          maxLength={200}
        />
      </div>
      <aside aria-label="What it would do" className="flex flex-col gap-3">
        {start.error && <ProblemNotice error={start.error} />}
        {runs ? (
          <Button does="startStint" look="main" className="min-h-14! text-lg!" onClick={() => begin(true)}>
            Begin in its place
          </Button>
        ) : (
          <Button
            does="startStint"
            look="main"
            className="min-h-14! text-lg!"
            disabled={body === null || start.isPending}
            onClick={() => begin(false)}
          >
            Begin now
          </Button>
        )}
        {body === null ? (
          <p className="text-soft">
            {choice.people?.length === 0 ? 'Choose at least one person.' : 'Choose at least one list.'}
          </p>
        ) : (
          <StintPreview
            preview={preview}
            kind={choice.kind}
            group={group}
            own={own}
            onAdded={(id) => put({ own: choice.own.includes(id) ? choice.own : [...choice.own, id] })}
          />
        )}
      </aside>
      {edited && (
        <OwnListDialog
          group={group}
          list={edited === 'new' ? undefined : edited}
          onSaved={(id) => put({ own: choice.own.includes(id) ? choice.own : [...choice.own, id] })}
          onClose={() => setEdited(null)}
        />
      )}
    </div>
  )
}

type MembersProps = { group: string; chosen: string[]; onToggle: (id: string) => void }

function Members({ group, chosen, onToggle }: MembersProps) {
  const members = useQuery(membersOptions(group))
  const [text, setText] = useState('')
  if (members.isPending) return <Loading what="the people of the group" />
  if (members.error) return <ProblemNotice error={members.error} />
  const wanted = text.trim().toLowerCase()
  const shown = members.data.filter((p) => `${p.fullName} ${p.name}`.toLowerCase().includes(wanted))
  return (
    <div className="flex basis-full flex-col gap-2">
      <input
        aria-label="Find somebody of the group"
        placeholder="Find somebody"
        value={text}
        onChange={(e) => setText(e.target.value)}
        className={`${fieldClass} h-10 max-w-md`}
      />
      <div className="flex max-h-64 flex-wrap gap-2 overflow-y-auto">
        {shown.map((p) => (
          <Big key={p.id} chosen={chosen.includes(p.id)} onChoose={() => onToggle(p.id)} title={p.fullName || p.name} />
        ))}
      </div>
    </div>
  )
}
