import { useQuery } from '@tanstack/react-query'
import { Link, Outlet, useNavigate, useSearch } from '@tanstack/react-router'
import { clsx } from 'clsx'
import {
  BellRing,
  BrickWall,
  CalendarClock,
  ChartColumn,
  CircleUser,
  FlaskConical,
  GitCompareArrows,
  KeyRound,
  LogOut,
  type LucideIcon,
  Moon,
  NotebookText,
  Package,
  Scale,
  ScrollText,
  SearchCheck,
  Shapes,
  Signpost,
  Sun,
  Users,
} from 'lucide-react'
import { useState } from 'react'
import { trialOf } from '../address/trialSearch'
import { draftOptions } from '../draft/draftQueries'
import { meOptions, useSignOut } from '../session/sessionQueries'
import { TrialSheet } from '../trials/TrialSheet'
import { Announcer } from '../ui/announce'
import { Menu, MenuItem } from '../ui/Menu'
import { Loading, ProblemNotice } from '../ui/Notice'
import { AccountDialog } from './AccountDialog'
import { NameHead } from './NameHead'
import { SignInPage } from './SignInPage'
import { TryBar } from './TryBar'
import { setTheme, useTheme } from './theme'

const nouns: {
  to:
    | '/lists'
    | '/categories'
    | '/lookup'
    | '/packs'
    | '/people'
    | '/schedules'
    | '/policies'
    | '/exceptions'
    | '/changes'
    | '/gates'
    | '/journal'
    | '/reports'
    | '/alerts'
    | '/try'
  label: string
  icon: LucideIcon
}[] = [
  { to: '/lists', label: 'Lists', icon: NotebookText },
  { to: '/categories', label: 'Categories', icon: Shapes },
  { to: '/lookup', label: 'Look up', icon: SearchCheck },
  { to: '/packs', label: 'Packs', icon: Package },
  { to: '/people', label: 'People', icon: Users },
  { to: '/schedules', label: 'Schedules', icon: CalendarClock },
  { to: '/policies', label: 'Policies', icon: Scale },
  { to: '/exceptions', label: 'Exceptions', icon: Signpost },
  { to: '/try', label: 'Try', icon: FlaskConical },
  { to: '/changes', label: 'Changes', icon: GitCompareArrows },
  { to: '/gates', label: 'Gates', icon: BrickWall },
  { to: '/journal', label: 'Journal', icon: ScrollText },
  { to: '/reports', label: 'Reports', icon: ChartColumn },
  { to: '/alerts', label: 'Alerts', icon: BellRing },
]

/** The frame of every page: navigation, try bar, page, and the sheet with the answer. */
export function Frame() {
  const me = useQuery(meOptions)
  const { url, as, at, sight } = useSearch({ from: '__root__' })
  const ask = { as, at, sight }
  const navigate = useNavigate()
  if (me.isPending) {
    return (
      <main className="p-8">
        <Loading what="who is signed in" />
      </main>
    )
  }
  if (me.error) {
    return (
      <main className="mx-auto flex min-h-screen max-w-2xl flex-col justify-center gap-6 px-6 pb-24">
        <NameHead />
        <ProblemNotice error={me.error} retry={() => me.refetch()} />
      </main>
    )
  }
  if (me.data === null) return <SignInPage />
  return (
    <Announcer>
      <div className="grid h-screen grid-cols-[9.5rem_minmax(0,1fr)] grid-rows-[3.5rem_minmax(0,1fr)]">
        <a href="#page" className="sr-only focus:not-sr-only focus:absolute focus:z-50 focus:bg-leaf focus:p-2">
          Go to the page
        </a>
        <Rail name={me.data.fullName || me.data.name} />
        <TryBar url={url ?? ''} ask={ask} />
        <div className="flex min-h-0 min-w-0">
          <main id="page" tabIndex={-1} className="min-w-0 grow overflow-hidden outline-none">
            <Outlet />
          </main>
          {url && (
            <TrialSheet
              url={url}
              ask={ask}
              onClose={() => {
                void navigate({ to: '.', search: (before) => ({ ...before, url: undefined }) })
                document.getElementById('try-url')?.focus()
              }}
            />
          )}
        </div>
      </div>
    </Announcer>
  )
}

/** The number of objects that differ from the live edition; red if an expectation fails. */
function Unpublished() {
  const draft = useQuery(draftOptions)
  if (!draft.data || draft.data.changed === 0) return null
  const failing = draft.data.failing > 0
  return (
    <span
      className={clsx(
        'ml-auto rounded-sm px-1.5 text-sm tabular-nums',
        failing ? 'bg-clay-wash text-clay' : 'text-soft',
      )}
      title={failing ? `${draft.data.failing} expectations fail` : 'not live yet'}
    >
      {draft.data.changed}
      <span className="sr-only">{failing ? ' changed; expectations fail' : ' changed, not live yet'}</span>
    </span>
  )
}

function Rail({ name }: { name: string }) {
  const theme = useTheme()
  const signOut = useSignOut()
  const [account, setAccount] = useState(false)
  return (
    <nav aria-label="Wide Lark" className="row-span-2 flex flex-col border-rule border-r">
      <Link to="/lists" className="flex h-14 items-center gap-2 border-rule border-b px-3 font-semibold text-lg">
        <img src="/mark.svg" alt="" className="size-7" />
        Wide Lark
      </Link>
      <ul className="flex grow flex-col py-2">
        {nouns.map(({ to, label, icon: Icon }) => (
          <li key={to}>
            <Link
              to={to}
              search={trialOf}
              className="flex items-center gap-2.5 border-transparent border-l-3 px-3 py-1.5 hover:bg-wash"
              activeProps={{ className: clsx('border-reed! bg-reed-wash font-semibold'), 'aria-current': 'page' }}
            >
              <Icon size={17} aria-hidden />
              {label}
              {to === '/changes' && <Unpublished />}
            </Link>
          </li>
        ))}
      </ul>
      <Menu
        trigger={
          <button
            type="button"
            className="flex items-center gap-2 border-rule border-t px-3 py-3 text-left text-sm hover:bg-wash"
          >
            <CircleUser size={17} aria-hidden className="shrink-0 text-soft" />
            <span className="truncate">{name}</span>
          </button>
        }
      >
        <MenuItem onSelect={() => setTheme(theme === 'dark' ? 'light' : 'dark')}>
          {theme === 'dark' ? <Sun size={15} aria-hidden /> : <Moon size={15} aria-hidden />}
          {theme === 'dark' ? 'Light paper' : 'Dark slate'}
        </MenuItem>
        <MenuItem onSelect={() => setAccount(true)}>
          <KeyRound size={15} aria-hidden />
          Your account
        </MenuItem>
        <MenuItem onSelect={() => signOut.mutate()}>
          <LogOut size={15} aria-hidden />
          Sign out
        </MenuItem>
      </Menu>
      {account && <AccountDialog onClose={() => setAccount(false)} />}
    </nav>
  )
}
