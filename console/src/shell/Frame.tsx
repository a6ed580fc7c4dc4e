import { useQuery } from '@tanstack/react-query'
import { Link, Navigate, Outlet, useLocation, useNavigate, useSearch } from '@tanstack/react-router'
import { clsx } from 'clsx'
import { CircleUser, KeyRound, LogOut, Moon, Sun } from 'lucide-react'
import { type ReactNode, useState } from 'react'
import { AccountDialog } from '../account/AccountDialog'
import { trialOf } from '../address/trialSearch'
import { draftOptions } from '../draft/draftQueries'
import { May, Permit, useAsked } from '../may/may'
import { meOptions, useSignOut } from '../session/sessionQueries'
import { TrialSheet } from '../trials/TrialSheet'
import { Announcer } from '../ui/announce'
import { buttonClass } from '../ui/Button'
import { Menu, MenuItem } from '../ui/Menu'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { NameHead } from './NameHead'
import { isClosed, usePages } from './pages'
import { SignedInPage } from './SignedInPage'
import { SignInPage } from './SignInPage'
import { TryBar } from './TryBar'
import { setTheme, useTheme } from './theme'
import { WelcomePage } from './WelcomePage'

/** The frame of every page: navigation, try bar, page, and the sheet with the answer. */
export function Frame() {
  const me = useQuery(meOptions)
  const { url, as, at, sight } = useSearch({ from: '__root__' })
  const ask = { as, at, sight }
  const navigate = useNavigate()
  const { pathname: address, hash: secret } = useLocation()
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
  if (me.data === null) {
    if (address === '/welcome') return <WelcomePage secret={secret} />
    return address === '/signed-in' ? <SignedInPage /> : <SignInPage />
  }
  return (
    <Permit parts={me.data.may}>
      <Announcer>
        <div className="grid h-screen grid-cols-[9.5rem_minmax(0,1fr)] grid-rows-[3.5rem_minmax(0,1fr)]">
          <a href="#page" className="sr-only focus:not-sr-only focus:absolute focus:z-50 focus:bg-leaf focus:p-2">
            Go to the page
          </a>
          <Rail name={me.data.fullName || me.data.name} />
          <May does="tryUrls" on={{ people: true }}>
            <TryBar url={url ?? ''} ask={ask} />
          </May>
          <div className="flex min-h-0 min-w-0">
            <main id="page" tabIndex={-1} className="min-w-0 grow overflow-hidden outline-none">
              <Page />
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
    </Permit>
  )
}

/** The pages of whoever is not signed in yet, and the one that leads on. */
const outside = ['/', '/welcome', '/signed-in']

/** The page or, where it is not for the account, the way to one that is. */
function Page() {
  const pages = usePages()
  const address = useLocation({ select: (at) => at.pathname })
  const first = pages[0]
  if (outside.includes(address) && first) return <Navigate to={first.to} search={trialOf} replace />
  if (first === undefined) {
    return <Closed title="There is nothing here for you yet">An owner has to give your account a role.</Closed>
  }
  if (!isClosed(address, pages)) return <Outlet />
  return (
    <Closed
      title="This page is not for your account"
      action={
        <Link to={first.to} search={trialOf} className={buttonClass('main')}>
          {first.label}
        </Link>
      }
    >
      An owner can give it a role that has it.
    </Closed>
  )
}

function Closed(notice: { title: string; action?: ReactNode; children: ReactNode }) {
  return (
    <div className="px-5">
      <h1 className="sr-only">Closed</h1>
      <EmptyNotice {...notice} />
    </div>
  )
}

/** The number of objects that differ from the live edition; red if an expectation fails. */
function Unpublished() {
  const draft = useAsked('getDraft', draftOptions)
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
  const pages = usePages()
  const signOut = useSignOut()
  const [account, setAccount] = useState(false)
  return (
    <nav aria-label="Wide Lark" className="row-span-2 flex flex-col border-rule border-r">
      <Link to="/" className="flex h-14 items-center gap-2 border-rule border-b px-3 font-semibold text-lg">
        <img src="/mark.svg" alt="" className="size-7" />
        Wide Lark
      </Link>
      <ul className="flex grow flex-col py-2">
        {pages.map(({ to, label, icon: Icon }) => (
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
