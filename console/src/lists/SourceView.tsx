import { useQuery } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { Choice, TextField } from '../ui/Field'
import { fieldProblems } from '../ui/fieldProblems'
import { formatNumber } from '../ui/format'
import { Mono } from '../ui/Mono'
import { Loading, ProblemNotice } from '../ui/Notice'
import { type List, type Source, sourceOptions, usePull, useRemoveSource, useSetSource } from './listQueries'

/** The source of a list that is pulled, and the result of the last pull. */
export function SourceView({ list }: { list: List }) {
  const source = useQuery(sourceOptions(list.id))
  if (source.isPending) return <Loading what="the source" />
  if (source.error) return <ProblemNotice error={source.error} retry={() => source.refetch()} />
  return (
    <div className="flex max-w-5xl gap-10 overflow-y-auto pb-6">
      <SourceForm key={source.data?.url} list={list} source={source.data} />
      {source.data && <Status list={list} source={source.data} />}
    </div>
  )
}

function SourceForm({ list, source }: { list: List; source: Source | null }) {
  const [form, setForm] = useState({
    url: source?.url ?? '',
    everyMinutes: source?.everyMinutes ?? 1440,
    format: source?.format ?? ('lines' as const),
    column: source?.column ?? '',
    maxShrink: source?.maxShrink ?? 30,
    paused: source?.paused ?? false,
  })
  const set = useSetSource(list.id)
  const remove = useRemoveSource(list.id)
  const announce = useAnnounce()
  const { wrong, others } = fieldProblems(set.error)
  const submit = (event: FormEvent) => {
    event.preventDefault()
    afterwards(set.mutateAsync(form), () => announce('Saved. It is pulled at its next time; or pull it now.'))
  }
  return (
    <form onSubmit={submit} className="flex w-[26rem] shrink-0 flex-col gap-4">
      <p className="text-soft">
        {source
          ? 'Each pull replaces the entries. A file that is too large, empty, damaged or much shorter is refused: the last good state stays.'
          : 'This list is kept by hand. Give an address, and its entries are pulled from there; what was kept by hand and is not in the file goes, and can be taken back.'}
      </p>
      <TextField
        label="Address of the file"
        type="url"
        value={form.url}
        onChange={(e) => setForm({ ...form, url: e.target.value })}
        placeholder="https://lists.partner.example/warnings.txt.gz"
        error={wrong('url')}
      />
      <div className="flex gap-4">
        <Choice
          label="Every"
          value={String(form.everyMinutes)}
          onChange={(value) => setForm({ ...form, everyMinutes: Number(value) })}
          options={[
            ['15', '15 minutes'],
            ['60', 'hour'],
            ['360', '6 hours'],
            ['1440', 'day'],
            ['10080', 'week'],
            ...([15, 60, 360, 1440, 10_080].includes(form.everyMinutes)
              ? []
              : ([[String(form.everyMinutes), `${form.everyMinutes} minutes`]] as [string, string][])),
          ]}
        />
        <Choice
          label="Written as"
          value={form.format}
          onChange={(value) => setForm({ ...form, format: value as typeof form.format })}
          options={[
            ['lines', 'lines'],
            ['hosts', 'hosts file'],
            ['domains', 'a domain a line'],
            ['csv', 'CSV'],
            ['jsonl', 'JSON Lines'],
            ['zone', 'a response policy zone'],
          ]}
        />
        <TextField
          label="May shrink by, %"
          type="number"
          min={0}
          max={100}
          value={form.maxShrink}
          onChange={(e) => setForm({ ...form, maxShrink: Number(e.target.value) })}
        />
      </div>
      {(form.format === 'csv' || form.format === 'jsonl') && (
        <TextField
          label={form.format === 'csv' ? 'Column with the entries' : 'Field with the entries'}
          value={form.column}
          onChange={(e) => setForm({ ...form, column: e.target.value })}
        />
      )}
      <label className="flex items-baseline gap-2 text-sm">
        <input
          type="checkbox"
          checked={form.paused}
          onChange={(e) => setForm({ ...form, paused: e.target.checked })}
          className="accent-reed"
        />
        Pull by hand only
      </label>
      {others()}
      <div className="flex gap-2">
        <Button type="submit" look="main" does="setSource" disabled={form.url === '' || set.isPending}>
          {source ? 'Save' : 'Have it pulled'}
        </Button>
        {source && (
          <Button
            does="removeSource"
            onClick={() =>
              afterwards(remove.mutateAsync(), () => announce('It is no longer pulled; its entries stay.'))
            }
          >
            Stop pulling
          </Button>
        )}
      </div>
    </form>
  )
}

const results = {
  changed: ['went well', 'text-reed'],
  unchanged: ['went well, nothing new', 'text-reed'],
  refused: ['refused', 'text-clay'],
  failed: ['failed', 'text-clay'],
} as const

function Status({ list, source }: { list: List; source: Source }) {
  const pull = usePull(list.id)
  const announce = useAnnounce()
  const run = (force: boolean) => pull.mutate(force, { onSuccess: (s) => announce(s.told) })
  return (
    <section aria-label="The last pull" className="flex grow flex-col items-start gap-3">
      <h2 className="font-semibold">The last pull</h2>
      {source.result ? (
        <>
          <p>
            <span className={`font-semibold ${results[source.result][1]}`}>{results[source.result][0]}</span>
            {source.triedAt && <span className="text-soft"> on {formatMoment(source.triedAt)}</span>}
          </p>
          <p>{source.told}</p>
        </>
      ) : (
        <p className="text-soft">There was none yet.</p>
      )}
      <dl className="grid grid-cols-[9rem_1fr] gap-y-1 text-sm">
        <dt className="text-soft">Last good state</dt>
        <dd>{source.pulledAt ? formatMoment(source.pulledAt) : 'none'}</dd>
        <dt className="text-soft">Next pull</dt>
        <dd>{source.paused ? 'by hand only' : formatMoment(source.nextAt)}</dd>
        <dt className="text-soft">File</dt>
        <dd>{formatNumber(source.bytes)} bytes</dd>
        <dt className="text-soft">From</dt>
        <dd>
          <Mono>{source.url}</Mono>
        </dd>
      </dl>
      {pull.error && <ProblemNotice error={pull.error} />}
      <div className="flex gap-2">
        <Button does="pullSource" onClick={() => run(false)} disabled={pull.isPending}>
          {pull.isPending ? 'Pulling…' : 'Pull now'}
        </Button>
        {source.result === 'refused' && (
          <Button look="danger" does="pullSource" onClick={() => run(true)} disabled={pull.isPending}>
            Pull, however much goes
          </Button>
        )}
      </div>
    </section>
  )
}
