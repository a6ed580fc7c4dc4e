import { useQuery } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { Concerns, May } from '../may/may'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { formatEnd, formatMoment } from '../ui/clock'
import { Choice, TextField } from '../ui/Field'
import { fieldProblems } from '../ui/fieldProblems'
import { Mono } from '../ui/Mono'
import { Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head } from '../ui/Table'
import { presencesOptions, useEndPresence, useSetPresence } from './peopleQueries'

const lengths: [string, string][] = [
  ['60', 'for an hour'],
  ['240', 'for four hours'],
  ['480', 'for eight hours'],
  ['720', 'for twelve hours'],
]

/** Who is at which address now: gates and trials take requests from there for theirs. */
export function PresencesView() {
  const all = useQuery(presencesOptions)
  const [form, setForm] = useState({ person: '', address: '', minutes: '480' })
  const set = useSetPresence()
  const end = useEndPresence()
  const announce = useAnnounce()
  const { wrong, others } = fieldProblems(set.error)
  const submit = (event: FormEvent) => {
    event.preventDefault()
    const body = { person: form.person, address: form.address, minutes: Number(form.minutes), how: 'the console' }
    afterwards(set.mutateAsync(body), (made) => {
      announce(`${made.person.name} is at ${made.address} ${formatEnd(made.until)}.`)
      setForm({ ...form, person: '', address: '' })
    })
  }
  if (all.isPending) return <Loading what="who is where" />
  if (all.error) return <ProblemNotice error={all.error} retry={() => all.refetch()} />
  return (
    <Concerns people>
      <div className="flex flex-col gap-3 overflow-y-auto pt-3">
        <p className="text-soft">
          Requests from an address are taken for those of the person who is there, at gates and in trials. It holds at
          once, without publishing.
        </p>
        <May does="setPresence">
          <form onSubmit={submit} className="grid grid-cols-[2fr_1fr_1fr_auto] items-end gap-3">
            <TextField
              label="Person"
              value={form.person}
              onChange={(e) => setForm({ ...form, person: e.target.value })}
              placeholder="Kay Moran"
              error={wrong('person')}
            />
            <TextField
              label="Address"
              value={form.address}
              onChange={(e) => setForm({ ...form, address: e.target.value })}
              placeholder="10.40.20.7"
              error={wrong('address')}
            />
            <Choice
              label="How long"
              value={form.minutes}
              onChange={(minutes) => setForm({ ...form, minutes })}
              options={lengths}
            />
            <Button type="submit" look="main" className="h-9!" disabled={form.person === '' || form.address === ''}>
              Is there
            </Button>
          </form>
        </May>
        {others()}
        {end.error && <ProblemNotice error={end.error} />}
        {all.data.length === 0 ? (
          <p className="py-4 text-soft">Nobody is known to be at any address.</p>
        ) : (
          <table className="w-full border-collapse">
            <thead>
              <tr>
                <Head>Person</Head>
                <Head>Address</Head>
                <Head>Since</Head>
                <Head>Until</Head>
                <Head>Known by</Head>
                <Head className="w-20">
                  <span className="sr-only">Do</span>
                </Head>
              </tr>
            </thead>
            <tbody>
              {all.data.map((p) => (
                <tr key={p.address} className="hover:bg-wash">
                  <td className={`${cellClass} font-semibold`}>{p.person.name}</td>
                  <td className={cellClass}>
                    <Mono>{p.address}</Mono>
                  </td>
                  <td className={cellClass}>{formatMoment(p.from)}</td>
                  <td className={cellClass}>{formatMoment(p.until)}</td>
                  <td className={`${cellClass} text-soft`}>{p.how || p.madeBy}</td>
                  <td className={cellClass}>
                    <Button
                      look="quiet"
                      does="endPresence"
                      aria-label={`End the presence at ${p.address}`}
                      onClick={() =>
                        afterwards(end.mutateAsync(p.address), () => announce(`Nobody is known to be at ${p.address}.`))
                      }
                    >
                      End
                    </Button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
    </Concerns>
  )
}
