import { useQuery } from '@tanstack/react-query'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { draftOptions } from '../draft/draftQueries'
import { useMay } from '../may/may'
import { ProblemNotice } from '../ui/Notice'
import { ViewButtons } from '../ui/ViewButtons'
import { AffectedView } from './AffectedView'
import { AuditView } from './AuditView'
import { DraftView } from './DraftView'
import { ExpectedView } from './ExpectedView'
import { HistoryView } from './HistoryView'
import { changeViews, type View } from './views'

const viewNames: Record<View, string> = {
  draft: 'The draft',
  expected: 'Expectations',
  affected: 'Before you block',
  history: 'Revisions',
  audit: 'Who did what',
}

/** The operation that a view asks for. */
const asks = {
  draft: 'getDiff',
  expected: 'getExpectations',
  affected: 'getAffected',
  history: 'getRevisions',
  audit: 'getAudit',
} as const

/** The draft: its differences, their effects, the findings, and the button that publishes it. */
export function ChangesPage() {
  const may = useMay()
  const draft = useQuery(draftOptions)
  const { view = 'draft' } = useSearch({ from: '/changes' })
  const navigate = useNavigate({ from: '/changes' })
  const counts: Partial<Record<View, string>> = draft.data
    ? {
        draft: String(draft.data.changed),
        expected: draft.data.failing > 0 ? `${draft.data.failing} fail` : String(draft.data.expected),
        history: String(draft.data.live.number),
      }
    : {}
  return (
    <div className="flex h-full flex-col overflow-y-auto px-5 pb-6">
      <div className="pt-4 pb-3">
        <h1 className="font-semibold text-xl">Changes</h1>
        <p className="text-soft">
          {draft.data ? (
            <>
              Live is revision {draft.data.live.number}, "{draft.data.live.note}".{' '}
              {draft.data.changed === 0
                ? 'The draft is the same.'
                : `The draft differs from it in ${draft.data.changed} ${draft.data.changed === 1 ? 'object' : 'objects'}.`}
            </>
          ) : (
            'Edits gather in the draft until somebody puts them live.'
          )}
        </p>
      </div>
      <ViewButtons
        names={
          Object.fromEntries(changeViews.filter((v) => may(asks[v])).map((v) => [v, viewNames[v]])) as Record<
            View,
            string
          >
        }
        chosen={view}
        counts={counts}
        onChoose={(v) => navigate({ search: (before) => ({ ...before, view: v }) })}
      />
      {draft.error && <ProblemNotice error={draft.error} retry={() => draft.refetch()} />}
      {view === 'draft' && <DraftView />}
      {view === 'expected' && <ExpectedView />}
      {view === 'affected' && <AffectedView />}
      {view === 'history' && <HistoryView />}
      {view === 'audit' && <AuditView />}
    </div>
  )
}
