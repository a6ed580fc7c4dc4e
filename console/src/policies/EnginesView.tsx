import { useQuery } from '@tanstack/react-query'
import { Plus } from 'lucide-react'
import { useState } from 'react'
import type { Schemas } from '../api/client'
import { DraftMark } from '../draft/DraftMark'
import { Button } from '../ui/Button'
import { Choice, TextArea, TextField } from '../ui/Field'
import { Mono } from '../ui/Mono'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { SaveDialog } from '../ui/SaveDialog'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { type Engine, enginesOptions, useRemoveEngine, useSaveEngine } from './policyQueries'

type Safe = Schemas['SafeBody']

/** Search engines: where safe search can be held, and how. */
export function EnginesView() {
  const all = useQuery(enginesOptions)
  const [open, setOpen] = useState<Engine | 'new' | null>(null)
  if (all.isPending) return <Loading what="the search engines" />
  if (all.error) return <ProblemNotice error={all.error} retry={() => all.refetch()} />
  return (
    <div className="pt-3">
      <div className="flex items-center gap-3 pb-2">
        <p className="grow text-soft">
          Where rules with <em>safe search</em> apply, the gates have these engines give safe answers.
        </p>
        <Button look="main" does="addEngine" onClick={() => setOpen('new')}>
          <Plus size={16} aria-hidden /> New search engine
        </Button>
      </div>
      {all.data.length === 0 ? (
        <EmptyNotice title="No search engines yet">
          Safe search is held at none, until you say here how their answers are made safe.
        </EmptyNotice>
      ) : (
        <table className="w-full border-collapse" onKeyDown={onRowKeys}>
          <thead>
            <tr>
              <Head>Search engine</Head>
              <Head>Hosts</Head>
              <Head>Words in</Head>
              <Head>Made safe by</Head>
            </tr>
          </thead>
          <tbody>
            {all.data.map((engine) => (
              <tr key={engine.id} className="hover:bg-wash">
                <td className={cellClass}>
                  <button
                    type="button"
                    onClick={() => setOpen(engine)}
                    className="text-left font-semibold underline decoration-rule underline-offset-2 hover:decoration-ink"
                  >
                    {engine.name}
                  </button>
                  <DraftMark id={engine.id} />
                  {engine.description && <p className="text-sm text-soft">{engine.description}</p>}
                </td>
                <td className={cellClass}>
                  {engine.hosts.map((host) => (
                    <p key={host}>
                      <Mono>{host}</Mono>
                    </p>
                  ))}
                </td>
                <td className={cellClass}>
                  {engine.words ? (
                    <Mono>{engine.words.join(', ')}</Mono>
                  ) : (
                    <span className="text-soft text-sm">the usual parameters, as q</span>
                  )}
                </td>
                <td className={`${cellClass} text-sm`}>
                  <SafeSaid safe={engine.safe} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {open && <EngineDialog engine={open === 'new' ? undefined : open} onClose={() => setOpen(null)} />}
    </div>
  )
}

function SafeSaid({ safe }: { safe?: Safe }) {
  if (!safe) return <span className="text-soft">nothing: safe search is not held there</span>
  return (
    <>
      <span className="text-soft">the {safe.by}</span> <Mono>{shown(safe)}</Mono>
    </>
  )
}

function shown(safe: Safe) {
  if (safe.by === 'host') return safe.value
  return safe.by === 'header' ? `${safe.name}: ${safe.value}` : `${safe.name}=${safe.value}`
}

type By = Safe['by'] | 'nothing'

const ways: [By, string][] = [
  ['parameter', 'A parameter that each request is sent with'],
  ['header', 'A header field that each request is sent with'],
  ['host', 'Another host that answers in its place'],
  ['nothing', 'Nothing'],
]

function EngineDialog({ engine, onClose }: { engine?: Engine; onClose: () => void }) {
  const [name, setName] = useState(engine?.name ?? '')
  const [description, setDescription] = useState(engine?.description ?? '')
  const [hosts, setHosts] = useState((engine?.hosts ?? []).join('\n'))
  const [words, setWords] = useState((engine?.words ?? []).join(', '))
  const [by, setBy] = useState<By>(engine ? (engine.safe?.by ?? 'nothing') : 'parameter')
  const [safeName, setSafeName] = useState(engine?.safe?.name ?? '')
  const [value, setValue] = useState(engine?.safe?.value ?? '')
  const save = useSaveEngine(engine)
  const remove = useRemoveEngine()
  const submit = () =>
    save.mutateAsync({
      name,
      description,
      hosts: hosts
        .split('\n')
        .map((line) => line.trim())
        .filter((line) => line !== ''),
      words: words.split(/[\s,]+/).filter((word) => word !== ''),
      safe: by === 'nothing' ? undefined : { by, name: by === 'host' ? undefined : safeName, value },
    })
  return (
    <SaveDialog
      title={engine ? `Search engine: ${engine.name}` : 'New search engine'}
      does="putEngine"
      description="Say where it is, how it is asked, and what makes its answers safe."
      action={engine ? 'Save' : 'Add the search engine'}
      ready={name.trim() !== '' && hosts.trim() !== '' && (by === 'nothing' || value.trim() !== '')}
      save={submit}
      told={(saved) => `Saved ${saved.name}.`}
      remove={engine && { thing: engine, by: remove }}
      onClose={onClose}
    >
      {(wrong) => (
        <>
          <TextField label="Name" value={name} onChange={(e) => setName(e.target.value)} error={wrong('name')} />
          <TextArea
            label="Hosts, one a line, in the notation"
            rows={2}
            spellCheck={false}
            className="mono"
            value={hosts}
            onChange={(e) => setHosts(e.target.value)}
            placeholder="find.lark-search.example"
            error={wrong('hosts')}
          />
          <TextField
            label="Parameters that hold what is searched for"
            spellCheck={false}
            className="mono"
            value={words}
            onChange={(e) => setWords(e.target.value)}
            placeholder="q"
            hint="Left empty, those that usually do."
            error={wrong('words')}
          />
          <Choice
            label="What makes its answers safe"
            value={by}
            onChange={(to) => {
              setBy(to as By)
              setValue(engine?.safe?.by === to ? engine.safe.value : '')
            }}
            options={ways}
          />
          {by !== 'nothing' && (
            <div className="flex gap-3">
              {by !== 'host' && (
                <div className="w-1/2">
                  <TextField
                    label={by === 'header' ? 'Header field' : 'Parameter'}
                    spellCheck={false}
                    className="mono"
                    value={safeName}
                    onChange={(e) => setSafeName(e.target.value)}
                    error={wrong('safe.name')}
                  />
                </div>
              )}
              <div className="grow">
                <TextField
                  label={by === 'host' ? 'Host' : 'Value'}
                  spellCheck={false}
                  className="mono"
                  value={value}
                  onChange={(e) => setValue(e.target.value)}
                  error={wrong('safe.value')}
                />
              </div>
            </div>
          )}
          <TextField label="Description" value={description} onChange={(e) => setDescription(e.target.value)} />
        </>
      )}
    </SaveDialog>
  )
}
