import { useQuery } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { May } from '../may/may'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { TextField } from '../ui/Field'
import { fieldProblems } from '../ui/fieldProblems'
import { Mono } from '../ui/Mono'
import { Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head } from '../ui/Table'
import { machinesOptions, useRemoveMachine, useSaveMachine } from './peopleQueries'

/** Named addresses. */
export function MachinesView() {
  const all = useQuery(machinesOptions)
  const [form, setForm] = useState({ name: '', address: '', description: '' })
  const save = useSaveMachine()
  const remove = useRemoveMachine()
  const announce = useAnnounce()
  const { wrong, others } = fieldProblems(save.error)
  const submit = (event: FormEvent) => {
    event.preventDefault()
    afterwards(save.mutateAsync(form), (made) => {
      announce(`Added ${made.name}.`)
      setForm({ name: '', address: '', description: '' })
    })
  }
  if (all.isPending) return <Loading what="the machines" />
  if (all.error) return <ProblemNotice error={all.error} retry={() => all.refetch()} />
  return (
    <div className="flex flex-col gap-3 overflow-y-auto pt-3">
      <May does="addMachine">
        <form onSubmit={submit} className="grid grid-cols-[1fr_1fr_2fr_auto] items-end gap-3">
          <TextField
            label="Name"
            value={form.name}
            onChange={(e) => setForm({ ...form, name: e.target.value })}
            placeholder="Bedside 4-12"
            error={wrong('name')}
          />
          <TextField
            label="Address"
            value={form.address}
            onChange={(e) => setForm({ ...form, address: e.target.value })}
            placeholder="10.40.41.12"
            error={wrong('address')}
          />
          <TextField
            label="Description"
            value={form.description}
            onChange={(e) => setForm({ ...form, description: e.target.value })}
          />
          <Button type="submit" look="main" className="h-9!" disabled={form.name === '' || form.address === ''}>
            Add the machine
          </Button>
        </form>
      </May>
      {others()}
      {remove.error && <ProblemNotice error={remove.error} />}
      <table className="w-full border-collapse">
        <thead>
          <tr>
            <Head>Machine</Head>
            <Head>Address</Head>
            <Head>Description</Head>
            <Head className="w-20">
              <span className="sr-only">Do</span>
            </Head>
          </tr>
        </thead>
        <tbody>
          {all.data.map((m) => (
            <tr key={m.id} className="hover:bg-wash">
              <td className={`${cellClass} font-semibold`}>{m.name}</td>
              <td className={cellClass}>
                <Mono>{m.address}</Mono>
              </td>
              <td className={`${cellClass} text-soft`}>{m.description}</td>
              <td className={cellClass}>
                <Button
                  look="quiet"
                  does="removeMachine"
                  aria-label={`Delete ${m.name}`}
                  onClick={() => afterwards(remove.mutateAsync(m), () => announce(`Deleted ${m.name}.`))}
                >
                  Delete
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
