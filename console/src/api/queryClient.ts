import { MutationCache, QueryCache, QueryClient } from '@tanstack/react-query'
import { ApiProblem, type Schemas } from './client'

type Session = Schemas['SessionOutputBody']

/** Any answer may show that the session has ended, but for those that only refuse a password or a code, which have a type. The sign-in page comes up then. */
const noticeSignedOut = (error: Error) => {
  if (error instanceof ApiProblem && error.status === 401 && error.type === '') {
    queryClient.setQueryData(['me'], (before: Session | undefined) =>
      before?.account ? { ...before, account: undefined, may: undefined } : before,
    )
  }
}

export const queryClient: QueryClient = new QueryClient({
  queryCache: new QueryCache({ onError: noticeSignedOut }),
  mutationCache: new MutationCache({ onError: noticeSignedOut }),
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      retry: (count, error) => error instanceof ApiProblem && error.status === 503 && count < 3,
    },
  },
})
