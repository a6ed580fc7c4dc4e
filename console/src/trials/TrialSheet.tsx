import { useQuery } from '@tanstack/react-query'
import { useNavigate } from '@tanstack/react-router'
import { X } from 'lucide-react'
import { useEffect } from 'react'
import type { Ask } from '../address/trialSearch'
import { useMay } from '../may/may'
import { IconButton } from '../ui/Button'
import { Loading, ProblemNotice } from '../ui/Notice'
import { VerdictMark } from '../ui/VerdictMark'
import { ways } from '../ui/ways'
import { ExpectButton } from './ExpectButton'
import { TrialDetail } from './TrialDetail'
import { liveTrialOptions, trialOptions } from './trialQueries'

type Props = { url: string; ask: Ask; onClose: () => void }

/** The sheet beside the page with the answer for the URL in the address. Escape closes it. */
export function TrialSheet({ url, ask, onClose }: Props) {
  // A role that is for some groups tries for their members alone.
  const asksWho = !useMay()('tryUrls', {}) && !ask.as
  const answer = useQuery({ ...trialOptions(url, ask), enabled: !asksWho })
  const navigate = useNavigate()
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
  const live = useQuery({ ...liveTrialOptions(url, ask), enabled: !asksWho })
  const trial = answer.data?.trials[0]
  return (
    <aside aria-label="Trial" className="w-[27rem] shrink-0 overflow-y-auto border-rule border-l bg-leaf px-5 py-4">
      <div className="mb-3 flex items-center gap-2">
        <h2 className="grow whitespace-nowrap font-semibold text-sm text-soft">Trial on the draft</h2>
        <select
          aria-label="What is seen"
          value={ask.sight ?? 'journey'}
          onChange={(e) =>
            navigate({ to: '.', search: (before) => ({ ...before, sight: e.target.value as Ask['sight'] }) })
          }
          className="w-0 min-w-36 shrink rounded-sm border border-edge bg-leaf px-1 text-sm"
        >
          <option value="journey">on their way</option>
          <optgroup label="On another way">
            {ways.map(([way, name]) => (
              <option key={way} value={`by-${way === 'dns,proxy' ? 'both' : way}`}>
                {name}
              </option>
            ))}
          </optgroup>
          <optgroup label="Seen everywhere">
            <option value="full">whole URL</option>
            <option value="tunnel">host and port</option>
            <option value="name">name only</option>
          </optgroup>
        </select>
        <IconButton label="Close the trial" onClick={onClose}>
          <X size={17} aria-hidden />
        </IconButton>
      </div>
      <div aria-live="polite">
        {answer.error && <ProblemNotice error={answer.error} retry={() => answer.refetch()} />}
        {asksWho && <p>Say above as whom: somebody of the groups that you lead.</p>}
        {answer.isPending && !asksWho && <Loading what="the verdict" />}
        {trial?.verdict && live.data?.verdict && live.data.verdict !== trial.verdict && (
          <p className="mb-3 border-ochre border-l-3 bg-wash px-3 py-1.5 text-sm">
            Live it is <VerdictMark verdict={live.data.verdict} />: {live.data.because}
          </p>
        )}
        {answer.data && trial && <TrialDetail trial={trial} answer={answer.data} />}
        {answer.data && trial?.verdict && <ExpectButton trial={trial} answer={answer.data} ask={ask} />}
      </div>
    </aside>
  )
}
