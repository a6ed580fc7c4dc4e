import { useState } from 'react'
import { Choice, TextArea, TextField } from '../ui/Field'
import { SaveDialog } from '../ui/SaveDialog'
import { type Alert, type AlertInput, useRemoveAlert, useSaveAlert } from './alertQueries'

type What = AlertInput['what']

const whats: [What, string][] = [
  ['requests', 'Requests that a search finds'],
  ['gates', 'Gates'],
  ['packs', 'Packs'],
  ['directories', 'Directories'],
  ['expectations', 'Expectations on what is live'],
]

/** Makes or edits an alert. */
export function AlertDialog({ alert, onClose }: { alert?: Alert; onClose: () => void }) {
  const [name, setName] = useState(alert?.name ?? '')
  const [what, setWhat] = useState<What>(alert?.what ?? 'requests')
  const [query, setQuery] = useState(alert?.query ?? '')
  const [more, setMore] = useState(String(alert?.more ?? 20))
  const [minutes, setMinutes] = useState(String(alert?.minutes ?? 10))
  const [days, setDays] = useState(String(alert?.days ?? 3))
  const [per, setPer] = useState(alert?.per ?? '')
  const [again, setAgain] = useState(String(alert?.again ?? 240))
  const [quiet, setQuiet] = useState(alert?.quiet !== undefined)
  const [from, setFrom] = useState(alert?.quiet?.from ?? '22:00')
  const [until, setUntil] = useState(alert?.quiet?.until ?? '06:00')
  const [to, setTo] = useState((alert?.to ?? []).join('\n'))
  const [hook, setHook] = useState(alert?.hook ?? '')
  const [secret, setSecret] = useState('')
  const [off, setOff] = useState(alert?.off ?? false)
  const save = useSaveAlert(alert)
  const remove = useRemoveAlert()
  const requests = what === 'requests'
  const body = (): AlertInput => ({
    name,
    what,
    query: requests && query ? query : undefined,
    more: requests ? Number(more) : undefined,
    minutes: requests || what === 'gates' ? Number(minutes) : undefined,
    per: requests && per ? (per as AlertInput['per']) : undefined,
    days: what === 'packs' || what === 'directories' ? Number(days) : undefined,
    again: Number(again),
    quiet: quiet ? { from, until } : undefined,
    to: to
      .split('\n')
      .map((t) => t.trim())
      .filter(Boolean),
    hook: hook || undefined,
    secret: secret || undefined,
    off: off || undefined,
  })
  return (
    <SaveDialog
      title={alert ? 'Alert' : 'New alert'}
      does="putAlert"
      description="It tells people once, with what was found at about the same time, and again only where it goes on and nobody has acknowledged it."
      wide
      action={alert ? 'Save' : 'Make it'}
      ready={name.trim() !== ''}
      save={() => save.mutateAsync(body())}
      told={(saved) => `The alert ${saved.name} is ${saved.off ? 'off' : 'on'}.`}
      remove={alert && { thing: alert, by: remove }}
      onClose={onClose}
    >
      {(wrong) => (
        <div className="grid grid-cols-2 gap-6">
          <div className="flex flex-col gap-4">
            <TextField
              label="Name"
              value={name}
              onChange={(e) => setName(e.target.value)}
              error={wrong('name')}
              autoFocus
            />
            <Choice label="About" value={what} onChange={(w) => setWhat(w as What)} options={whats} />
            {requests && (
              <>
                <TextField
                  label="Requests that this finds"
                  hint="In the language of the journal, without a time."
                  className="mono"
                  value={query}
                  onChange={(e) => setQuery(e.target.value)}
                  error={wrong('query')}
                />
                <div className="grid grid-cols-2 gap-3">
                  <TextField
                    label="More than"
                    type="number"
                    min={0}
                    value={more}
                    onChange={(e) => setMore(e.target.value)}
                    error={wrong('more')}
                  />
                  <TextField
                    label="In minutes"
                    type="number"
                    min={1}
                    max={1440}
                    value={minutes}
                    onChange={(e) => setMinutes(e.target.value)}
                    error={wrong('minutes')}
                  />
                </div>
                <Choice
                  label="Counted"
                  value={per}
                  onChange={setPer}
                  options={[
                    ['', 'All together'],
                    ['person', 'For each person'],
                    ['group', 'For each group'],
                    ['network', 'For each network'],
                    ['site', 'For each site'],
                    ['gate', 'For each kind of gate'],
                  ]}
                />
              </>
            )}
            {what === 'gates' && (
              <TextField
                label="Silent or behind for minutes"
                type="number"
                min={1}
                max={1440}
                value={minutes}
                onChange={(e) => setMinutes(e.target.value)}
                error={wrong('minutes')}
              />
            )}
            {(what === 'packs' || what === 'directories') && (
              <TextField
                label="Older than days"
                type="number"
                min={1}
                max={400}
                value={days}
                onChange={(e) => setDays(e.target.value)}
                error={wrong('days')}
              />
            )}
          </div>
          <div className="flex flex-col gap-4">
            <TextArea
              label="Mailed to, an address a line"
              rows={2}
              value={to}
              onChange={(e) => setTo(e.target.value)}
              error={wrong('to') ?? wrong('to[0]') ?? wrong('to[1]')}
            />
            <TextField
              label="Posted to"
              hint="An address that takes JSON."
              value={hook}
              onChange={(e) => setHook(e.target.value)}
              error={wrong('hook')}
            />
            {hook && (
              <TextField
                label="Secret that it is signed with"
                type="password"
                autoComplete="new-password"
                hint={alert?.signed ? 'Empty: the one before stays.' : '16 letters at least. Empty: not signed.'}
                value={secret}
                onChange={(e) => setSecret(e.target.value)}
                error={wrong('secret')}
              />
            )}
            <TextField
              label="Told again after minutes"
              type="number"
              min={5}
              max={10080}
              value={again}
              onChange={(e) => setAgain(e.target.value)}
              error={wrong('again')}
            />
            <label className="flex items-center gap-2 text-sm">
              <input
                type="checkbox"
                className="accent-reed"
                checked={quiet}
                onChange={(e) => setQuiet(e.target.checked)}
              />
              Quiet at some time of the day
            </label>
            {quiet && (
              <div className="grid grid-cols-2 gap-3">
                <TextField
                  label="From"
                  type="time"
                  value={from}
                  onChange={(e) => setFrom(e.target.value)}
                  error={wrong('quiet.from')}
                />
                <TextField
                  label="Until"
                  type="time"
                  value={until}
                  onChange={(e) => setUntil(e.target.value)}
                  error={wrong('quiet.until')}
                />
              </div>
            )}
            <label className="flex items-center gap-2 text-sm">
              <input type="checkbox" className="accent-reed" checked={off} onChange={(e) => setOff(e.target.checked)} />
              Off
            </label>
          </div>
        </div>
      )}
    </SaveDialog>
  )
}
