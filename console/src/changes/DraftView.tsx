import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { diffOptions, draftOptions } from '../draft/draftQueries'
import { useMay } from '../may/may'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { DifferenceList } from './DifferenceList'
import { FailingList } from './FailingList'
import { FindingList } from './FindingList'
import { PublishBox } from './PublishBox'
import { RemarksView } from './RemarksView'
import { ReplaySummary } from './ReplaySummary'
import { TurnList } from './TurnList'

/** The differences of the draft, their effects, the findings, and the button that publishes, on one page. */
export function DraftView() {
  const draft = useQuery(draftOptions)
  const diff = useQuery(diffOptions('live', 'draft'))
  const may = useMay()
  const [chosen, setChosen] = useState<string[]>([])
  if (diff.isPending || draft.isPending) return <Loading what="what changed" />
  if (diff.error) return <ProblemNotice error={diff.error} retry={() => diff.refetch()} />
  if (!draft.data) return null
  const changed = diff.data.changes.length > 0
  return (
    <div className="grid grid-cols-[minmax(0,1fr)_19rem] gap-x-8 pt-4 max-[75rem]:grid-cols-1">
      <div className="flex min-w-0 flex-col gap-7">
        {changed ? (
          <>
            <Section title="What changed">
              <DifferenceList
                changes={diff.data.changes}
                version={diff.data.toVersion}
                chosen={chosen}
                onChoose={may('publish') ? setChosen : undefined}
              />
            </Section>
            <Section title="What it does">
              <TurnList from="live" to="draft" />
              <ReplaySummary />
            </Section>
          </>
        ) : (
          <EmptyNotice title="Nothing to publish">
            The draft is what is live. Edit a list, a rule or a schedule, and its story stands here: what changed, what
            it does, and what is wrong with it.
          </EmptyNotice>
        )}
        <RemarksView />
        <Section title="What is wrong">
          <FailingList />
          <FindingList />
        </Section>
      </div>
      <PublishBox
        draft={draft.data}
        changed={changed}
        version={diff.data.toVersion}
        chosen={chosen.filter((id) => diff.data.changes.some((c) => c.id === id))}
        onPublished={() => setChosen([])}
      />
    </div>
  )
}

function Section({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <section className="flex flex-col gap-2">
      <h2 className="font-semibold text-lg">{title}</h2>
      {children}
    </section>
  )
}
