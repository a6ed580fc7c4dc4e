import { keepPreviousData, queryOptions, useMutation, useQueryClient } from '@tanstack/react-query'
import { api, data, match, type Schemas } from '../api/client'

export type Schedule = Schemas['Schedule']
export type Times = Schemas['Times']
export type TimeWindow = Schemas['TimeWindow']

export const schedulesOptions = queryOptions({
  queryKey: ['schedules'],
  queryFn: async () => (await data(api.GET('/api/v1/schedules'))).schedules,
})

/** The schedule that a text describes, while it is typed. */
export const explainScheduleOptions = (text: string, zone: string) =>
  queryOptions({
    queryKey: ['schedules', 'explain', text, zone],
    placeholderData: keepPreviousData,
    queryFn: () => data(api.POST('/api/v1/schedules/explain', { body: { text, zone: zone || undefined } })),
  })

function useRefresh() {
  const client = useQueryClient()
  return () => client.invalidateQueries({ queryKey: ['schedules'] })
}

/** Creates a schedule or, given one, edits it. */
export function useSaveSchedule(schedule?: Schedule) {
  const refresh = useRefresh()
  return useMutation({
    mutationFn: (body: Schemas['NewScheduleInputBody']) =>
      schedule
        ? data(
            api.PATCH('/api/v1/schedules/{id}', {
              params: { path: { id: schedule.id }, header: match(schedule.version) },
              body,
            }),
          )
        : data(api.POST('/api/v1/schedules', { body })),
    onSuccess: refresh,
  })
}

export function useDeleteSchedule() {
  const refresh = useRefresh()
  return useMutation({
    mutationFn: (s: Schedule) =>
      api.DELETE('/api/v1/schedules/{id}', { params: { path: { id: s.id }, header: match(s.version) } }),
    onSuccess: refresh,
  })
}

/** The lines of a schedule for a calendar file. */
export function useReadCalendar(zone: string) {
  return useMutation({
    mutationFn: async ({ file, as }: { file: Blob; as: 'on' | 'not on' }) =>
      data(
        api.POST('/api/v1/schedules/calendar', {
          params: { query: { as, zone: zone || undefined } },
          headers: { 'Content-Type': 'text/plain' },
          body: await file.text(),
          bodySerializer: (body) => body,
        }),
      ),
  })
}
