import { useState } from 'react'
import { formatEnd } from '../ui/clock'
import { Choice, TextArea, TextField } from '../ui/Field'
import { SaveDialog } from '../ui/SaveDialog'
import { type Code, useAddCode } from './codeQueries'
import { ends, linesOf } from './standing'

/** Makes a code, which is shown once. */
export function CodeDialog({ onMade, onClose }: { onMade: (made: Code) => void; onClose: () => void }) {
  const [reason, setReason] = useState('')
  const [entries, setEntries] = useState('')
  const [minutes, setMinutes] = useState('60')
  const [idle, setIdle] = useState('')
  const [uses, setUses] = useState('1')
  const [end, setEnd] = useState<'2' | 'today' | 'week'>('today')
  const add = useAddCode()
  const until = () => (end === '2' ? new Date(Date.now() + 2 * 3600e3) : ends()[end])
  return (
    <SaveDialog
      title="New code"
      does="addCode"
      description="Whoever enters it at a held page comes past it for a while. It is shown once; only its hash is kept."
      action="Make the code"
      ready={reason.trim() !== '' && Number(minutes) > 0 && Number(uses) > 0}
      save={async () => {
        const made = await add.mutateAsync({
          entries: entries.trim() === '' ? undefined : linesOf(entries),
          minutes: Number(minutes),
          idle: Number(idle) || undefined,
          uses: Number(uses),
          until: until().toISOString(),
          reason,
        })
        onMade(made)
        return made
      }}
      told={(made) => `Made a code; it can be entered ${formatEnd(made.until)}.`}
      onClose={onClose}
    >
      {(wrong) => (
        <>
          <TextField
            label="What it is for"
            value={reason}
            autoFocus
            placeholder="The evening class"
            onChange={(e) => setReason(e.target.value)}
            error={wrong('reason')}
          />
          <TextArea
            label="What it opens, one entry a line"
            rows={2}
            spellCheck={false}
            value={entries}
            placeholder="empty: the page at which it is entered"
            onChange={(e) => setEntries(e.target.value)}
            error={wrong('entries')}
          />
          <div className="grid grid-cols-2 gap-3">
            <TextField
              label="Opens for"
              hint="Minutes"
              type="number"
              min={1}
              max={1440}
              value={minutes}
              onChange={(e) => setMinutes(e.target.value)}
              error={wrong('minutes')}
            />
            <TextField
              label="Closes unused after"
              type="number"
              min={1}
              max={1440}
              value={idle}
              placeholder="only at its end"
              hint="Minutes in which nothing is opened"
              onChange={(e) => setIdle(e.target.value)}
              error={wrong('idle')}
            />
            <TextField
              label="How often"
              type="number"
              min={1}
              max={1000}
              value={uses}
              onChange={(e) => setUses(e.target.value)}
              error={wrong('uses')}
            />
            <Choice
              label="Can be entered"
              value={end}
              onChange={(v) => setEnd(v as typeof end)}
              options={[
                ['2', 'for two hours'],
                ['today', 'through today'],
                ['week', 'through this week'],
              ]}
            />
          </div>
        </>
      )}
    </SaveDialog>
  )
}
