import { useEffect, useRef } from 'react'
import { useProviderSignIn } from '../session/sessionQueries'
import { Loading } from '../ui/Notice'
import { Outside, SignInPage } from './SignInPage'

/** What an identity provider says in the address that it leads back to (RFC 6749, section 4.1.2). */
const answer = () => {
  const said = new URLSearchParams(window.location.search)
  return { code: said.get('code') ?? '', state: said.get('state') ?? '', error: said.get('error') }
}

/** The page that the identity provider leads back to. */
export function SignedInPage() {
  const finish = useProviderSignIn()
  const begun = useRef(false)
  const { code, state, error } = useRef(answer()).current
  useEffect(() => {
    if (begun.current) return
    begun.current = true
    window.history.replaceState(null, '', window.location.pathname) // a code in the history is of no use to anybody
    if (code && state) finish.mutate({ code, state })
  }, [code, state, finish])
  const failed = finish.error ?? (error || !code ? new Error('You have not signed in there. Try again.') : undefined)
  if (failed) return <SignInPage failed={failed} />
  return (
    <Outside>
      <Loading what="who you are" />
    </Outside>
  )
}
