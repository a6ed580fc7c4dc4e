import type { Ask } from '../address/trialSearch'
import { useAddExpectation } from '../changes/changeQueries'
import { useMay } from '../may/may'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { ProblemNotice } from '../ui/Notice'
import type { Trial, Trials } from './trialQueries'

type Props = { trial: Trial; answer: Trials; ask: Ask }

/** Saves a trial and its verdict as an expectation, so that no later change turns the verdict unnoticed. */
export function ExpectButton({ trial, answer, ask }: Props) {
  const add = useAddExpectation()
  const announce = useAnnounce()
  const may = useMay()
  const { verdict } = trial
  if (!verdict || !may('addExpectation')) return null
  const sight = ask.sight === 'name' || ask.sight === 'tunnel' ? ask.sight : undefined
  return (
    <div className="mt-5 flex flex-col gap-2 border-rule border-t pt-4">
      <Button
        className="self-start"
        disabled={add.isPending}
        onClick={() =>
          afterwards(
            add.mutateAsync({
              urls: [trial.input],
              person: answer.who.person,
              group: answer.who.group,
              address: answer.who.address,
              at: ask.at || undefined,
              sight,
              verdict,
            }),
            (made) => announce(`Expected from now on: ${made.name}.`),
          )
        }
      >
        Expect this from now on
      </Button>
      <p className="text-sm text-soft">
        It is tried on every change; a draft that breaks it is not published by accident.
      </p>
      {add.error && <ProblemNotice error={add.error} />}
    </div>
  )
}
