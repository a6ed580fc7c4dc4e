import { useQuery } from '@tanstack/react-query'
import { useSearch } from '@tanstack/react-router'
import { useState } from 'react'
import { CategoryNames } from '../categories/CategoryNames'
import { LookupLink } from '../categories/LookupLink'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { count, formatNumber } from '../ui/format'
import { Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, onRowKeys } from '../ui/Table'
import { type Pack, packChangesOptions, useSettlePack, useUndoPack } from './packQueries'

/** The changes of the waiting update: requested sites first, so that nobody learns of a change from a complaint. */
export function UpdateView({ pack }: { pack: Pack }) {
  const { from = 0, to = 0 } = useSearch({ from: '/packs/$id' })
  const [limit, setLimit] = useState(100)
  const changes = useQuery(packChangesOptions(pack.id, from, to, limit))
  const settle = useSettlePack(pack)
  const undo = useUndoPack(pack.id)
  const announce = useAnnounce()
  if (changes.isPending) return <Loading what="what changes" />
  if (changes.error) return <ProblemNotice error={changes.error} retry={() => changes.refetch()} />
  const c = changes.data
  const chosen = from !== 0 || to !== 0
  if (c.from === c.to) {
    return (
      <p className="py-6 text-soft">
        {pack.inForce
          ? 'No update waits: the latest version is in force. What earlier ones changed is in the history.'
          : 'Nothing has come of this pack yet. Pull it, or import a file.'}
      </p>
    )
  }
  const act = (verb: 'accept' | 'refuse') =>
    afterwards(settle.mutateAsync(verb), (after) => {
      if (verb === 'accept') {
        announce(`Version ${after.inForce?.version} is in force.`, { label: 'Undo', run: () => undo.mutate() })
      } else announce('The update is refused; the next one waits again.')
    })
  return (
    <div className="min-h-0 grow overflow-y-auto pb-6">
      <div className="flex items-center gap-3 pb-4">
        <p className="grow">
          <span className="font-semibold">
            {chosen
              ? `State ${c.from} to ${c.to}`
              : pack.waiting
                ? `Version ${pack.waiting.version} waits`
                : 'The latest'}
            :
          </span>{' '}
          {count(c.added, 'site comes', 'sites come')}, {formatNumber(c.moved)} move, {formatNumber(c.gone)} go.
        </p>
        {pack.waiting && !chosen && (
          <>
            <Button look="main" does="acceptPack" disabled={settle.isPending} onClick={() => act('accept')}>
              Put it in force
            </Button>
            <Button does="refusePack" disabled={settle.isPending} onClick={() => act('refuse')}>
              Leave it aside
            </Button>
          </>
        )}
      </div>
      {settle.error && <ProblemNotice error={settle.error} />}
      <div className="grid grid-cols-2 gap-8">
        <section aria-label="Of what was asked for">
          <h2 className="font-semibold">Of what was asked for</h2>
          <p className="pb-1 text-sm text-soft">
            {c.turned.hosts === 0
              ? 'Nothing changes category.'
              : `${count(c.turned.hosts, 'host', 'hosts')} with ${count(c.turned.requests, 'request', 'requests')} change category, the most asked for first.`}
          </p>
          <table className="w-full border-collapse" onKeyDown={onRowKeys}>
            <tbody>
              {c.turns.map((t) => (
                <tr key={t.url} className="hover:bg-wash">
                  <td className={`${cellClass} w-16 text-right`}>{formatNumber(t.requests)}</td>
                  <td className={cellClass}>
                    <LookupLink url={t.url} />
                    <Turned before={t.before} after={t.after} none="unrated" />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
        <section aria-label="Sites">
          <h2 className="font-semibold">All entries that change</h2>
          <p className="pb-1 text-sm text-soft">By name, whether anybody asked for them or not.</p>
          <table className="w-full border-collapse" onKeyDown={onRowKeys}>
            <tbody>
              {c.changes.map((s) => (
                <tr key={s.entry} className="hover:bg-wash">
                  <td className={cellClass}>
                    <LookupLink url={s.entry} />
                    <Turned before={s.before} after={s.after} none="not there" />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {c.next && (
            <Button className="mt-3" onClick={() => setLimit(Math.min(1000, limit * 3))} disabled={limit >= 1000}>
              {limit >= 1000 ? 'The command line shows all' : 'More'}
            </Button>
          )}
        </section>
      </div>
    </div>
  )
}

type TurnedProps = {
  before: Parameters<typeof CategoryNames>[0]['categories']
  after: Parameters<typeof CategoryNames>[0]['categories']
  none: string
}

function Turned({ before, after, none }: TurnedProps) {
  return (
    <p className="text-sm">
      <span className="text-soft">
        <CategoryNames categories={before} none={none} />
      </span>
      <span className="text-soft"> → </span>
      <span className="sr-only">becomes </span>
      <CategoryNames categories={after} none={none} />
    </p>
  )
}
