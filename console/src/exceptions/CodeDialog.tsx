import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import type { Schemas } from '../api/client'
import { groupsOptions, peopleOptions } from '../people/peopleQueries'
import { formatEnd } from '../ui/clock'
import { Choice, TextArea, TextField } from '../ui/Field'
import { RefPicker } from '../ui/RefPicker'
import { SaveDialog } from '../ui/SaveDialog'
import { useSettled } from '../ui/useSettled'
import { type Code, classesOptions, useAddCode } from './codeQueries'
import { ends, linesOf } from './standing'

type Ref = Schemas['Ref']

/** Makes a code, which is shown once. */
export function CodeDialog({ onMade, onClose }: { onMade: (made: Code) => void; onClose: () => void }) {
  const [reason, setReason] = useState('')
  const [opens, setOpens] = useState<'page' | 'entries' | 'categories' | 'everything'>('page')
  const [entries, setEntries] = useState('')
  const [categories, setCategories] = useState<Ref[]>([])
  const [persons, setPersons] = useState<Ref[]>([])
  const [groups, setGroups] = useState<Ref[]>([])
  const [text, setText] = useState('')
  const people = useQuery({ ...peopleOptions(useSettled(text)), enabled: text.trim() !== '' })
  const known = useQuery(groupsOptions)
  const classes = useQuery(classesOptions)
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
      description="Whoever enters it comes past a page that is held or, where it says what it opens, blocked. It is shown once; only its hash is kept."
      action="Make the code"
      ready={
        reason.trim() !== '' &&
        Number(minutes) > 0 &&
        Number(uses) > 0 &&
        (opens !== 'entries' || entries.trim() !== '') &&
        (opens !== 'categories' || categories.length > 0)
      }
      save={async () => {
        const made = await add.mutateAsync({
          entries: opens === 'entries' ? linesOf(entries) : undefined,
          categories: opens === 'categories' ? categories.map((c) => c.id) : undefined,
          everything: opens === 'everything' || undefined,
          for: persons.length + groups.length > 0 ? { persons, groups } : undefined,
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
          <Choice
            label="What it opens"
            value={opens}
            onChange={(v) => setOpens(v as typeof opens)}
            options={[
              ['page', 'the page at which it is entered, where a rule holds it'],
              ['entries', 'some sites and pages'],
              ['categories', 'everything in some categories'],
              ['everything', 'everything below the baseline'],
            ]}
          />
          {opens === 'entries' && (
            <TextArea
              label="Sites and pages, one entry a line"
              rows={2}
              spellCheck={false}
              value={entries}
              onChange={(e) => setEntries(e.target.value)}
              error={wrong('entries')}
            />
          )}
          {opens === 'categories' && (
            <RefPicker
              label="Categories and families"
              chosen={categories}
              offered={classes.data ?? []}
              onChange={setCategories}
              {...(wrong('categories') !== undefined && { error: wrong('categories') as string })}
            />
          )}
          <RefPicker
            label="People who may enter it; with no group either, whoever has it"
            chosen={persons}
            offered={(people.data?.items ?? []).map((p) => ({ id: p.id, name: p.fullName || p.name }))}
            onText={setText}
            onChange={setPersons}
            placeholder="Type a name"
            {...(wrong('for') !== undefined && { error: wrong('for') as string })}
          />
          <RefPicker label="Groups that may enter it" chosen={groups} offered={known.data ?? []} onChange={setGroups} />
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
