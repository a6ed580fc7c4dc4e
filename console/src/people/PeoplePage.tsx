import { useNavigate, useSearch } from '@tanstack/react-router'
import { Plus, Upload } from 'lucide-react'
import { type FormEvent, useState } from 'react'
import { DirectoriesView } from '../directories/DirectoriesView'
import { useMay } from '../may/may'
import { Button } from '../ui/Button'
import { fieldClass } from '../ui/Field'
import { ViewButtons } from '../ui/ViewButtons'
import { AccountsView } from './AccountsView'
import { GroupDialog } from './GroupDialog'
import { GroupsAndPeople } from './GroupsView'
import { ImportPeopleDialog } from './ImportPeopleDialog'
import { MachinesView } from './MachinesView'
import { NetworksView } from './NetworksView'
import { PersonDialog } from './PersonDialog'
import { PresencesView } from './PresencesView'
import { WhoIs } from './WhoIs'

const viewNames = {
  people: 'Groups and people',
  networks: 'Networks',
  machines: 'Machines',
  presences: 'Presences',
  directories: 'Directories',
  accounts: 'Accounts',
}

/** The operation that a view asks for. */
const asks = {
  people: 'getPeople',
  networks: 'getNetworks',
  machines: 'getMachines',
  presences: 'getPresences',
  directories: 'getDirectories',
  accounts: 'getAccounts',
} as const

/** Groups with their people, networks, machines, and a search for who somebody is. */
export function PeoplePage() {
  const may = useMay()
  const { view = 'people', who = '' } = useSearch({ from: '/people' })
  const navigate = useNavigate({ from: '/people' })
  const [text, setText] = useState(who)
  const [open, setOpen] = useState<'import' | 'person' | 'group' | null>(null)
  const ask = (event: FormEvent) => {
    event.preventDefault()
    void navigate({ search: (before) => ({ ...before, who: text.trim() || undefined }) })
  }
  return (
    <div className="flex h-full flex-col px-5 pb-4">
      <div className="flex items-end gap-3 pt-4 pb-3">
        <div className="grow">
          <h1 className="font-semibold text-xl">People</h1>
          <p className="text-soft">Who asks, and which groups they belong to. Policies and exceptions are for these.</p>
        </div>
        <Button does="importPeople" onClick={() => setOpen('import')}>
          <Upload size={15} aria-hidden /> Import
        </Button>
        <Button does="addGroup" onClick={() => setOpen('group')}>
          <Plus size={15} aria-hidden /> Group
        </Button>
        <Button look="main" does="addPerson" onClick={() => setOpen('person')}>
          <Plus size={15} aria-hidden /> Person
        </Button>
      </div>
      <ViewButtons
        names={
          Object.fromEntries(
            Object.entries(viewNames).filter(([v]) => may(asks[v as keyof typeof asks], { people: true })),
          ) as typeof viewNames
        }
        chosen={view}
        onChoose={(v) => navigate({ search: (before) => ({ ...before, view: v }) })}
      >
        <span className="grow" />
        <form onSubmit={ask} className="flex items-center gap-2">
          <input
            aria-label="Who is this? A name or an address"
            placeholder="Who is this? A name or an address"
            value={text}
            onChange={(e) => setText(e.target.value)}
            className={`${fieldClass} h-8 w-72`}
          />
          <Button type="submit" disabled={text.trim() === ''}>
            Ask
          </Button>
        </form>
      </ViewButtons>
      {who && (
        <WhoIs
          name={who}
          onClose={() => {
            setText('')
            void navigate({ search: (before) => ({ ...before, who: undefined }) })
          }}
        />
      )}
      {view === 'people' && <GroupsAndPeople />}
      {view === 'networks' && <NetworksView />}
      {view === 'machines' && <MachinesView />}
      {view === 'presences' && <PresencesView />}
      {view === 'directories' && <DirectoriesView />}
      {view === 'accounts' && <AccountsView />}
      {open === 'import' && <ImportPeopleDialog onClose={() => setOpen(null)} />}
      {open === 'person' && <PersonDialog onClose={() => setOpen(null)} />}
      {open === 'group' && <GroupDialog onClose={() => setOpen(null)} />}
    </div>
  )
}
