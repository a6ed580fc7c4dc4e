import { useQuery } from '@tanstack/react-query'
import { Link, useNavigate } from '@tanstack/react-router'
import { Plus } from 'lucide-react'
import { useState } from 'react'
import { trialOf } from '../address/trialSearch'
import { May } from '../may/may'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { TextField } from '../ui/Field'
import { fieldProblems } from '../ui/fieldProblems'
import { count, formatNumber } from '../ui/format'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { SaveDialog } from '../ui/SaveDialog'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { type PackForm, packForm, SettingsFields } from './PackSettings'
import { type Pack, packKeysOptions, packsOptions, useCreatePack, useDistrust, useTrust } from './packQueries'
import { Standing } from './Standing'

/** The packs of the catalogue in the order of their rank, and the trusted keys. */
export function PacksPage() {
  const packs = useQuery(packsOptions)
  const [adding, setAdding] = useState(false)
  return (
    <div className="flex h-full flex-col overflow-y-auto px-5 pb-6">
      <div className="flex items-end gap-3 pt-4 pb-3">
        <div className="grow">
          <h1 className="font-semibold text-xl">Packs</h1>
          <p className="text-soft">
            Files of category data that somebody keeps. Of several, the first that knows a site says what it is.
          </p>
        </div>
        <Button look="main" does="createPack" onClick={() => setAdding(true)}>
          <Plus size={16} aria-hidden /> Add a pack
        </Button>
      </div>
      {packs.isPending && <Loading what="the packs" />}
      {packs.error && <ProblemNotice error={packs.error} retry={() => packs.refetch()} />}
      {packs.data?.length === 0 && (
        <EmptyNotice
          title="No packs yet"
          action={
            <Button look="main" does="createPack" onClick={() => setAdding(true)}>
              Add the first pack
            </Button>
          }
        >
          Without a pack every site is unrated. First trust the key of the pack's maker, below; then say where the pack
          is, or import its file.
        </EmptyNotice>
      )}
      {packs.data && packs.data.length > 0 && <PackTable packs={packs.data} />}
      <Keys />
      {adding && <AddDialog onClose={() => setAdding(false)} />}
    </div>
  )
}

/** The age of a pack: one that is never updated loses worth every day. */
function age(date: string) {
  const days = Math.floor((Date.now() - new Date(date).getTime()) / 86_400_000)
  return days < 1 ? 'of today' : `${count(days, 'day', 'days')} old`
}

function PackTable({ packs }: { packs: Pack[] }) {
  return (
    <table className="w-full border-collapse" onKeyDown={onRowKeys}>
      <thead>
        <tr>
          <Head right>Rank</Head>
          <Head>Pack</Head>
          <Head right>Version</Head>
          <Head right>Sites</Head>
          <Head>Of</Head>
          <Head>Next pull</Head>
          <Head>Stands</Head>
        </tr>
      </thead>
      <tbody>
        {packs.map((p) => (
          <tr key={p.id} className="hover:bg-wash">
            <td className={`${cellClass} text-right`}>{p.rank}</td>
            <td className={cellClass}>
              <Link
                to="/packs/$id"
                params={{ id: p.id }}
                search={(before) => ({ ...trialOf(before) })}
                className="font-semibold underline decoration-rule underline-offset-2 hover:decoration-ink"
              >
                {p.name}
              </Link>
              <p className="text-sm text-soft">{p.told}</p>
            </td>
            <td className={`${cellClass} text-right`}>{p.inForce?.version ?? '–'}</td>
            <td className={`${cellClass} text-right`}>{p.inForce ? formatNumber(p.inForce.sites) : ''}</td>
            <td className={`${cellClass} whitespace-nowrap`}>
              {p.inForce && formatMoment(p.inForce.date)}
              {p.inForce && <p className="text-sm text-soft">{age(p.inForce.date)}</p>}
            </td>
            <td className={`${cellClass} whitespace-nowrap`}>{p.nextAt ? formatMoment(p.nextAt) : 'by hand'}</td>
            <td className={`${cellClass} whitespace-nowrap`}>
              <Standing pack={p} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

function AddDialog({ onClose }: { onClose: () => void }) {
  const [form, setForm] = useState<PackForm>(packForm())
  const create = useCreatePack()
  const navigate = useNavigate()
  return (
    <SaveDialog
      title="Add a pack"
      does="createPack"
      description="It says nothing until its first file is in."
      action="Add it"
      ready={form.name.trim() !== ''}
      save={() => create.mutateAsync({ ...form, url: form.url || undefined })}
      told={(pack) => `Added ${pack.name}.`}
      then={(pack) =>
        void navigate({ to: '/packs/$id', params: { id: pack.id }, search: (before) => ({ ...trialOf(before) }) })
      }
      onClose={onClose}
    >
      {(wrong) => <SettingsFields form={form} setForm={setForm} name={wrong('name')} url={wrong('url')} />}
    </SaveDialog>
  )
}

/** The keys whose signatures are trusted. */
function Keys() {
  const keys = useQuery(packKeysOptions)
  const [form, setForm] = useState({ name: '', key: '' })
  const trust = useTrust()
  const distrust = useDistrust()
  const announce = useAnnounce()
  const { wrong, others } = fieldProblems(trust.error)
  return (
    <section aria-label="Trusted keys" className="flex max-w-4xl flex-col gap-3 pt-8">
      <div>
        <h2 className="font-semibold text-lg">Trusted keys</h2>
        <p className="text-soft">
          A pack is taken only where one of these vouches for it. Get a maker's key by a way that you trust, not from
          where the pack comes from.
        </p>
      </div>
      <ul>
        {keys.data?.map((k) => (
          <li key={k.key} className="flex items-center gap-4 border-rule border-b py-1">
            <span className="w-44 font-semibold">{k.name}</span>
            <span className="mono grow">{k.key}</span>
            <span className="text-sm text-soft">
              by {k.addedBy}, {formatMoment(k.addedAt)}
            </span>
            <Button
              look="quiet"
              does="distrustKey"
              onClick={() =>
                afterwards(distrust.mutateAsync(k.key), () =>
                  announce(`${k.name} is no longer trusted.`, {
                    label: 'Undo',
                    run: () => trust.mutate({ key: k.key, name: k.name }),
                  }),
                )
              }
            >
              Stop trusting
            </Button>
          </li>
        ))}
      </ul>
      <May does="trustKey">
        <form
          className="flex items-start gap-3"
          onSubmit={(event) => {
            event.preventDefault()
            afterwards(trust.mutateAsync(form), () => {
              announce(`Packs signed by ${form.name} are trusted.`)
              setForm({ name: '', key: '' })
            })
          }}
        >
          <div className="w-44 shrink-0">
            <TextField
              label="Whose key"
              value={form.name}
              onChange={(e) => setForm({ ...form, name: e.target.value })}
              error={wrong('name')}
            />
          </div>
          <div className="grow">
            <TextField
              label="Public key"
              className="mono"
              value={form.key}
              onChange={(e) => setForm({ ...form, key: e.target.value })}
              error={wrong('key')}
            />
          </div>
          <Button type="submit" className="mt-6 h-9!" disabled={form.name === '' || form.key === '' || trust.isPending}>
            Trust it
          </Button>
        </form>
      </May>
      {others()}
    </section>
  )
}
