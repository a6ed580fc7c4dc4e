import { useQuery } from '@tanstack/react-query'
import { X } from 'lucide-react'
import { useEffect } from 'react'
import { IconButton } from '../ui/Button'
import { Loading, ProblemNotice } from '../ui/Notice'
import { TrialDetail } from './TrialDetail'
import { trialOptions } from './trialQueries'

type Props = { url: string; onClose: () => void }

/** The sheet beside the page with the answer for the URL in the address. Escape closes it. */
export function TrialSheet({ url, onClose }: Props) {
  const answer = useQuery(trialOptions(url))
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (
        event.key === 'Escape' &&
        !event.defaultPrevented &&
        !document.querySelector('[role="dialog"], [role="menu"]')
      ) {
        onClose()
      }
    }
    document.addEventListener('keydown', onKey)
    return () => document.removeEventListener('keydown', onKey)
  }, [onClose])
  const trial = answer.data?.trials[0]
  return (
    <aside aria-label="Trial" className="w-[25rem] shrink-0 overflow-y-auto border-rule border-l bg-leaf px-5 py-4">
      <div className="mb-3 flex items-center justify-between">
        <h2 className="font-semibold text-sm text-soft">Trial on the draft</h2>
        <IconButton label="Close the trial" onClick={onClose}>
          <X size={17} aria-hidden />
        </IconButton>
      </div>
      <div aria-live="polite">
        {answer.error && <ProblemNotice error={answer.error} retry={() => answer.refetch()} />}
        {answer.isPending && <Loading what="the verdict" />}
        {answer.data && trial && <TrialDetail trial={trial} group={answer.data.group} policy={answer.data.policy} />}
      </div>
    </aside>
  )
}
