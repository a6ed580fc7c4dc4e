import { MutationCache, QueryCache, QueryClient } from '@tanstack/react-query'
import { ApiProblem } from './client'

/** Any answer may show that the session has ended; asking again who is signed in then brings up the sign-in page. */
const noticeSignedOut = (error: Error) => {
  if (error instanceof ApiProblem && error.status === 401 && queryClient.getQueryData(['me']) !== null) {
    queryClient.setQueryData(['me'], null)
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
