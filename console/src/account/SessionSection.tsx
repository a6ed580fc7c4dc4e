import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { api, data } from '../api/client'
import { Button } from '../ui/Button'
import { formatMoment } from '../ui/clock'
import { ProblemNotice } from '../ui/Notice'
import { Section } from './Section'

export const sessionsKey = ['sessions']

/** Where the user is signed in. */
export function SessionSection() {
  const client = useQueryClient()
  const sessions = useQuery({
    queryKey: sessionsKey,
    queryFn: async () => (await data(api.GET('/api/v1/sessions'))).sessions,
  })
  const end = useMutation({
    mutationFn: (id: string) => api.DELETE('/api/v1/sessions/{id}', { params: { path: { id } } }),
    onSettled: () => client.invalidateQueries({ queryKey: sessionsKey }),
  })
  return (
    <Section title="Where you are signed in">
      {(sessions.error ?? end.error) && <ProblemNotice error={(sessions.error ?? end.error) as Error} />}
      <ul className="flex flex-col">
        {sessions.data?.map((one) => (
          <li key={one.id} className="flex items-center gap-3 border-rule border-b py-2 text-sm">
            <span className="min-w-0 grow">
              <span className="block">
                {one.address}, since {formatMoment(one.madeAt)}
              </span>
              <span className="block break-words text-soft text-xs">{one.agent}</span>
            </span>
            {one.this ? (
              <span className="shrink-0 text-soft">this one</span>
            ) : (
              <Button onClick={() => end.mutate(one.id)} disabled={end.isPending}>
                Sign out there
              </Button>
            )}
          </li>
        ))}
      </ul>
    </Section>
  )
}
