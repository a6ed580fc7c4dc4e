import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from '../ui/Button'
import { Check, Choice, TextArea, TextField } from '../ui/Field'
import { Mono } from '../ui/Mono'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { SaveDialog } from '../ui/SaveDialog'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { wayName, ways } from '../ui/ways'
import { type Network, networksOptions, useRemoveNetwork, useSaveNetwork } from './peopleQueries'

/** Named ranges of addresses. An address belongs to the network with the longest prefix for it. */
export function NetworksView() {
  const all = useQuery(networksOptions)
  const [open, setOpen] = useState<Network | 'new' | null>(null)
  if (all.isPending) return <Loading what="the networks" />
  if (all.error) return <ProblemNotice error={all.error} retry={() => all.refetch()} />
  return (
    <div className="overflow-y-auto pt-3">
      <div className="flex items-center gap-3 pb-2">
        <p className="grow text-soft">Where several ranges hold an address, the most specific counts.</p>
        <Button does="addNetwork" onClick={() => setOpen('new')}>
          New network
        </Button>
      </div>
      {all.data.length === 0 ? (
        <EmptyNotice title="No networks yet">
          A network is a named set of address ranges, as the wards' 10.40.10.0/23.
        </EmptyNotice>
      ) : (
        <table className="w-full border-collapse" onKeyDown={onRowKeys}>
          <thead>
            <tr>
              <Head>Network</Head>
              <Head>Ranges</Head>
              <Head>Its clients meet</Head>
              <Head>Description</Head>
            </tr>
          </thead>
          <tbody>
            {all.data.map((n) => (
              <tr key={n.id} className="hover:bg-wash">
                <td className={cellClass}>
                  <button
                    type="button"
                    onClick={() => setOpen(n)}
                    className="font-semibold underline decoration-rule underline-offset-2"
                  >
                    {n.name}
                  </button>
                </td>
                <td className={cellClass}>
                  <Mono>{n.ranges.join(', ')}</Mono>
                </td>
                <td className={cellClass}>
                  {n.way ? wayName(n.way) : <span className="text-soft">as everywhere</span>}
                  {n.shared && <span className="text-soft">; addresses are shared</span>}
                  {n.distrusts && <span className="text-soft">; nothing is opened</span>}
                </td>
                <td className={`${cellClass} text-soft`}>{n.description}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {open && <NetworkDialog network={open === 'new' ? undefined : open} onClose={() => setOpen(null)} />}
    </div>
  )
}

function NetworkDialog({ network, onClose }: { network?: Network; onClose: () => void }) {
  const [name, setName] = useState(network?.name ?? '')
  const [description, setDescription] = useState(network?.description ?? '')
  const [ranges, setRanges] = useState((network?.ranges ?? []).join('\n'))
  const [way, setWay] = useState(network?.way ?? '')
  const [sends, setSends] = useState<'tunnel' | 'full'>(network?.sends ?? 'full')
  const [distrusts, setDistrusts] = useState(network?.distrusts ?? false)
  const [shared, setShared] = useState(network?.shared ?? false)
  const [signIn, setSignIn] = useState<NonNullable<Network['signIn']>>(network?.signIn ?? 'unknown')
  const save = useSaveNetwork(network)
  const remove = useRemoveNetwork()
  const submit = () => {
    const split = ranges.split(/[\s,]+/).filter((r) => r !== '')
    return save.mutateAsync({
      name,
      description,
      ranges: split,
      way,
      sends: way === 'icap' ? sends : undefined,
      distrusts,
      shared,
      signIn,
    })
  }
  return (
    <SaveDialog
      title={network ? `Network: ${network.name}` : 'New network'}
      does="putNetwork"
      description="Requests from these addresses belong to the groups that hold the network."
      action={network ? 'Save' : 'Make the network'}
      ready={name.trim() !== '' && ranges.trim() !== ''}
      save={submit}
      told={(saved) => `Saved ${saved.name}.`}
      remove={network && { thing: network, by: remove }}
      onClose={onClose}
    >
      {(wrong) => (
        <>
          <TextField label="Name" value={name} onChange={(e) => setName(e.target.value)} error={wrong('name')} />
          <TextArea
            label="Ranges, one a line"
            rows={3}
            spellCheck={false}
            value={ranges}
            onChange={(e) => setRanges(e.target.value)}
            placeholder="10.40.10.0/23"
            error={wrong('ranges')}
          />
          <Choice
            label="Its clients meet"
            value={way}
            onChange={setWay}
            options={[['', 'the gates that all clients meet'], ...ways, ['none', 'no gate']]}
          />
          {way === 'icap' && (
            <Choice
              label="Of TLS connections the other proxy sends"
              value={sends}
              onChange={(v) => setSends(v === 'tunnel' ? 'tunnel' : 'full')}
              options={[
                ['full', 'the whole URL'],
                ['tunnel', 'host and port'],
              ]}
            />
          )}
          <Choice
            label="Who signs in at the proxy gate"
            value={signIn}
            onChange={(v) => setSignIn(v === 'always' || v === 'never' ? v : 'unknown')}
            options={[
              ['unknown', 'whoever is not known otherwise'],
              ['always', 'everybody'],
              ['never', 'nobody'],
            ]}
          />
          <label className="flex items-center gap-2 text-sm">
            <input
              type="checkbox"
              className="accent-reed"
              checked={!distrusts}
              onChange={(e) => setDistrusts(!e.target.checked)}
            />
            Its clients trust the authority of our gates, so that connections can be opened
          </label>
          <Check
            label="Many clients share its addresses, which say nothing of who asks"
            checked={shared}
            onChange={setShared}
          />
          <TextField label="Description" value={description} onChange={(e) => setDescription(e.target.value)} />
        </>
      )}
    </SaveDialog>
  )
}
