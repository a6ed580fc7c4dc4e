import { useQuery } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import { Plus, X } from 'lucide-react'
import { useState } from 'react'
import { trialOf } from '../address/trialSearch'
import type { Schemas } from '../api/client'
import { DraftMark } from '../draft/DraftMark'
import { Button, IconButton } from '../ui/Button'
import { TextArea, TextField } from '../ui/Field'
import { Mono } from '../ui/Mono'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { SaveDialog } from '../ui/SaveDialog'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { type App, appsOptions, appUsesOptions, useRemoveApp, useSaveApp } from './policyQueries'

type Activity = Schemas['ActivityBody']

/** Apps: named sets of hosts, with their activities. */
export function AppsView() {
  const all = useQuery(appsOptions)
  const [open, setOpen] = useState<App | 'new' | null>(null)
  if (all.isPending) return <Loading what="the apps" />
  if (all.error) return <ProblemNotice error={all.error} retry={() => all.refetch()} />
  return (
    <div className="pt-3">
      <div className="flex items-center gap-3 pb-2">
        <p className="grow text-soft">
          Named sets of hosts, and what is done there: a rule can ask for sending files somewhere, and leave reading
          alone.
        </p>
        <Button look="main" does="addApp" onClick={() => setOpen('new')}>
          <Plus size={16} aria-hidden /> New app
        </Button>
      </div>
      {all.data.length === 0 ? (
        <EmptyNotice title="No apps yet">
          An app is what people know a site as: its hosts under one name, with what they do there, as <em>upload</em>.
        </EmptyNotice>
      ) : (
        <table className="w-full border-collapse" onKeyDown={onRowKeys}>
          <thead>
            <tr>
              <Head>App</Head>
              <Head>Hosts</Head>
              <Head>What is done there</Head>
            </tr>
          </thead>
          <tbody>
            {all.data.map((app) => (
              <tr key={app.id} className="hover:bg-wash">
                <td className={cellClass}>
                  <button
                    type="button"
                    onClick={() => setOpen(app)}
                    className="text-left font-semibold underline decoration-rule underline-offset-2 hover:decoration-ink"
                  >
                    {app.name}
                  </button>
                  <DraftMark id={app.id} />
                  {app.description && <p className="text-sm text-soft">{app.description}</p>}
                </td>
                <td className={cellClass}>
                  {app.hosts.map((host) => (
                    <p key={host}>
                      <Mono>{host}</Mono>
                    </p>
                  ))}
                </td>
                <td className={`${cellClass} text-sm`}>
                  {app.activities.map((a) => (
                    <p key={a.key}>
                      {a.name}: <ActivitySaid activity={a} />
                    </p>
                  ))}
                  {app.activities.length === 0 && <span className="text-soft">anything</span>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {open && <AppDialog app={open === 'new' ? undefined : open} onClose={() => setOpen(null)} />}
    </div>
  )
}

function ActivitySaid({ activity: a }: { activity: Activity }) {
  return (
    <span className="text-soft">
      {a.methods?.join(' or ') || 'any method'}
      {a.paths && a.paths.length > 0 && (
        <>
          {' on '}
          <Mono>{a.paths.join(', ')}</Mono>
        </>
      )}
    </span>
  )
}

/** An activity in the form, where lists are text separated by commas. */
type Row = { id: number; key: string; name: string; methods: string; paths: string }

const parts = (text: string) => text.split(/[\s,]+/).filter((part) => part !== '')

function AppDialog({ app, onClose }: { app?: App; onClose: () => void }) {
  const [name, setName] = useState(app?.name ?? '')
  const [description, setDescription] = useState(app?.description ?? '')
  const [hosts, setHosts] = useState((app?.hosts ?? []).join('\n'))
  const [rows, setRows] = useState<Row[]>(
    (app?.activities ?? []).map((a, id) => ({
      id,
      key: a.key,
      name: a.name,
      methods: (a.methods ?? []).join(', '),
      paths: (a.paths ?? []).join(', '),
    })),
  )
  const save = useSaveApp(app)
  const remove = useRemoveApp()
  const set = (id: number, change: Partial<Row>) => setRows(rows.map((r) => (r.id === id ? { ...r, ...change } : r)))
  const submit = () => {
    const body = {
      key: app?.key,
      name,
      description,
      hosts: hosts
        .split('\n')
        .map((line) => line.trim())
        .filter((line) => line !== ''),
      activities: rows.map((r) => ({ key: r.key, name: r.name, methods: parts(r.methods), paths: parts(r.paths) })),
    }
    return save.mutateAsync(body)
  }
  return (
    <SaveDialog
      title={app ? `App: ${app.name}` : 'New app'}
      does="putApp"
      description="Rules ask for the app, or for one thing that is done there."
      action={app ? 'Save' : 'Make the app'}
      ready={name.trim() !== '' && hosts.trim() !== ''}
      save={submit}
      told={(saved) => `Saved ${saved.name}.`}
      remove={app && { thing: app, by: remove }}
      onClose={onClose}
    >
      {(wrong) => (
        <>
          <TextField label="Name" value={name} onChange={(e) => setName(e.target.value)} error={wrong('name')} />
          <TextArea
            label="Hosts, one a line, in the notation"
            rows={3}
            spellCheck={false}
            className="mono"
            value={hosts}
            onChange={(e) => setHosts(e.target.value)}
            placeholder="sharebay.example"
            error={wrong('hosts')}
          />
          <fieldset className="flex min-w-0 flex-col gap-2">
            <legend className="pb-1 font-semibold text-sm">What is done there</legend>
            {rows.map((row, i) => (
              <div key={row.id} className="flex flex-col gap-1">
                <div className="flex items-start gap-2">
                  <SmallField
                    label={`Activity ${i + 1}: name`}
                    placeholder="upload"
                    value={row.name}
                    onChange={(to) => set(row.id, { name: to })}
                    className="w-26"
                  />
                  <SmallField
                    label={`Activity ${i + 1}: methods`}
                    placeholder="any method"
                    value={row.methods}
                    onChange={(to) => set(row.id, { methods: to })}
                    className="w-26"
                  />
                  <SmallField
                    label={`Activity ${i + 1}: paths`}
                    placeholder="any path"
                    value={row.paths}
                    onChange={(to) => set(row.id, { paths: to })}
                    className="mono w-0 min-w-0 grow"
                  />
                  <IconButton
                    label={`Leave out ${row.name || `activity ${i + 1}`}`}
                    onClick={() => setRows(rows.filter((r) => r.id !== row.id))}
                  >
                    <X size={15} aria-hidden />
                  </IconButton>
                </div>
                {wrong(`activities[${i}]`) && <p className="text-clay text-sm">{wrong(`activities[${i}]`)}</p>}
              </div>
            ))}
            <div>
              <Button
                onClick={() =>
                  setRows([
                    ...rows,
                    { id: Math.max(-1, ...rows.map((r) => r.id)) + 1, key: '', name: '', methods: '', paths: '' },
                  ])
                }
              >
                <Plus size={15} aria-hidden /> Something else that is done there
              </Button>
            </div>
          </fieldset>
          <TextField label="Description" value={description} onChange={(e) => setDescription(e.target.value)} />
          {app && <Uses app={app} />}
        </>
      )}
    </SaveDialog>
  )
}

type SmallProps = {
  label: string
  placeholder: string
  value: string
  onChange: (text: string) => void
  className: string
}

function SmallField({ label, placeholder, value, onChange, className }: SmallProps) {
  return (
    <input
      aria-label={label}
      placeholder={placeholder}
      spellCheck={false}
      value={value}
      onChange={(e) => onChange(e.target.value)}
      className={`h-8 rounded-sm border border-edge bg-leaf px-2 text-sm placeholder:text-soft ${className}`}
    />
  )
}

/** The policies whose conditions name an app. */
function Uses({ app }: { app: App }) {
  const found = useQuery(appUsesOptions(app.id))
  if (!found.data) return null
  return (
    <p className="text-sm text-soft">
      {found.data.length === 0 ? (
        'No rule asks for it.'
      ) : (
        <>
          Rules ask for it in{' '}
          {found.data.map((use, i) => (
            <span key={use.id}>
              {i > 0 && ', '}
              <Link
                to="/policies/$id"
                params={{ id: use.id }}
                search={trialOf}
                className="text-reed underline underline-offset-2"
              >
                {use.name}
              </Link>
            </span>
          ))}
          .
        </>
      )}
    </p>
  )
}
