import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { formatMoment } from '../ui/clock'
import { Choice, TextArea, TextField } from '../ui/Field'
import { count, formatNumber } from '../ui/format'
import { Mono } from '../ui/Mono'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { SaveDialog } from '../ui/SaveDialog'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { type Forward, type ForwardInput, forwardsOptions, useRemoveForward, useSaveForward } from './alertQueries'

/** Where records are sent on, and how far that is. */
export function ForwardsView({
  open,
  onOpen,
}: {
  open: Forward | 'new' | null
  onOpen: (f: Forward | 'new' | null) => void
}) {
  const all = useQuery(forwardsOptions)
  if (all.isPending) return <Loading what="where records are sent on" />
  if (all.error) return <ProblemNotice error={all.error} retry={() => all.refetch()} />
  return (
    <>
      {all.data.length === 0 ? (
        <EmptyNotice title="Records are sent on to nobody">
          Collectors that speak syslog (RFC 5424) or take logs of OpenTelemetry get each record as it comes; what they
          miss while they are away is sent again.
        </EmptyNotice>
      ) : (
        <table className="w-full border-collapse" onKeyDown={onRowKeys}>
          <thead>
            <tr>
              <Head>Name</Head>
              <Head>To</Head>
              <Head>Only</Head>
              <Head right>Sent</Head>
              <Head>Last</Head>
            </tr>
          </thead>
          <tbody>
            {all.data.map((f) => (
              <tr key={f.id} className="hover:bg-wash">
                <td className={cellClass}>
                  <button
                    type="button"
                    onClick={() => onOpen(f)}
                    className="text-left font-semibold underline decoration-rule underline-offset-2 hover:decoration-ink"
                  >
                    {f.name}
                  </button>
                  {f.off && <span className="ml-2 text-ochre text-sm">off</span>}
                  {f.problem && <p className="text-clay text-sm">{f.problem}</p>}
                </td>
                <td className={cellClass}>
                  {f.protocol === 'otlp' ? 'OpenTelemetry' : f.tls ? 'syslog over TLS' : 'syslog'}
                  <p>
                    <Mono>{f.address}</Mono>
                  </p>
                </td>
                <td className={cellClass}>
                  {f.query ? <Mono>{f.query}</Mono> : <span className="text-soft">everything</span>}
                </td>
                <td className={`${cellClass} text-right tabular-nums`}>{formatNumber(f.sent)}</td>
                <td className={`${cellClass} text-sm`}>
                  {f.sentAt && formatMoment(f.sentAt)}
                  {f.behind > 0 && <p className="text-soft">{count(f.behind, 'batch waits', 'batches wait')}</p>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {open && <ForwardDialog forward={open === 'new' ? undefined : open} onClose={() => onOpen(null)} />}
    </>
  )
}

function ForwardDialog({ forward, onClose }: { forward?: Forward; onClose: () => void }) {
  const [name, setName] = useState(forward?.name ?? '')
  const [protocol, setProtocol] = useState<ForwardInput['protocol']>(forward?.protocol ?? 'syslog')
  const [address, setAddress] = useState(forward?.address ?? '')
  const [tls, setTLS] = useState(forward?.tls ?? true)
  const [roots, setRoots] = useState(forward?.roots ?? '')
  const [query, setQuery] = useState(forward?.query ?? '')
  const [off, setOff] = useState(forward?.off ?? false)
  const save = useSaveForward(forward)
  const remove = useRemoveForward()
  const syslog = protocol === 'syslog'
  return (
    <SaveDialog
      title={forward ? 'Where records are sent on' : 'Send records on'}
      does="putForward"
      description="From now on, each record at least once, in the order in which they come."
      action={forward ? 'Save' : 'Send them on'}
      ready={name.trim() !== '' && address.trim() !== ''}
      save={() =>
        save.mutateAsync({
          name,
          protocol,
          address: address.trim(),
          tls: syslog ? tls : undefined,
          roots: roots || undefined,
          query: query || undefined,
          off: off || undefined,
        })
      }
      told={(saved) => (saved.off ? `${saved.name} is off.` : `Records are sent on to ${saved.name}.`)}
      remove={forward && { thing: forward, by: remove }}
      onClose={onClose}
    >
      {(wrong) => (
        <>
          <TextField
            label="Name"
            value={name}
            onChange={(e) => setName(e.target.value)}
            error={wrong('name')}
            autoFocus
          />
          <Choice
            label="As"
            value={protocol}
            onChange={(p) => setProtocol(p as typeof protocol)}
            options={[
              ['syslog', 'Syslog (RFC 5424) over TCP'],
              ['otlp', 'Logs of OpenTelemetry (OTLP) over HTTP'],
            ]}
          />
          <TextField
            label="Address"
            className="mono"
            placeholder={syslog ? 'logs.quillmere.example:6514' : 'https://collector.quillmere.example/v1/logs'}
            value={address}
            onChange={(e) => setAddress(e.target.value)}
            error={wrong('address')}
          />
          {syslog && (
            <label className="flex items-center gap-2 text-sm">
              <input type="checkbox" className="accent-reed" checked={tls} onChange={(e) => setTLS(e.target.checked)} />
              Over TLS
            </label>
          )}
          <TextArea
            label="Authorities that are trusted, as PEM"
            hint="Empty: those of the service’s machine."
            className="mono"
            rows={2}
            value={roots}
            onChange={(e) => setRoots(e.target.value)}
            error={wrong('roots')}
          />
          <TextField
            label="Only records that this finds"
            className="mono"
            value={query}
            onChange={(e) => setQuery(e.target.value)}
            error={wrong('query')}
          />
          <label className="flex items-center gap-2 text-sm">
            <input type="checkbox" className="accent-reed" checked={off} onChange={(e) => setOff(e.target.checked)} />
            Off; what comes meanwhile waits
          </label>
        </>
      )}
    </SaveDialog>
  )
}
