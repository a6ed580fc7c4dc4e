import { type FormEvent, useState } from 'react'
import { ApiProblem } from '../api/client'
import { type Place, PlaceChoice } from '../places/PlaceChoice'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { Dialog, DialogBody, DialogFoot } from '../ui/Dialog'
import { TextArea } from '../ui/Field'
import { count } from '../ui/format'
import { Mono } from '../ui/Mono'
import { ProblemNotice } from '../ui/Notice'
import { CategoryPicker } from './CategoryPicker'
import { useCorrect } from './categoryQueries'

type Props = {
  /** Entries that it may be about, the narrowest first; one of them is chosen. */
  places?: Place[]
  /** Entries that it is about, all of them. */
  entries?: string[]
  onClose: () => void
  onDone?: () => void
}

/** Says what sites, hosts or pages are, whatever the catalogue says. */
export function CorrectDialog({ places, entries, onClose, onDone }: Props) {
  const [place, setPlace] = useState(places?.at(-1)?.entry ?? '')
  const [categories, setCategories] = useState<string[]>([])
  const [reason, setReason] = useState('')
  const correct = useCorrect()
  const announce = useAnnounce()
  const fields = correct.error instanceof ApiProblem ? correct.error.fields : new Map<string, string>()
  const about = entries ?? [place]
  const submit = (event: FormEvent) => {
    event.preventDefault()
    afterwards(correct.mutateAsync({ entries: about, categories, reason }), ({ corrections }) => {
      announce(`Corrected ${corrections.length === 1 ? about[0] : count(corrections.length, 'site', 'sites')}.`)
      onDone?.()
      onClose()
    })
  }
  return (
    <Dialog
      open
      onOpenChange={(open) => open || onClose()}
      title={entries ? `Say what ${count(entries.length, 'site is', 'sites are')}` : 'Correct the catalogue'}
      description="A correction counts at once, whatever packs and lists say, until it is taken back."
    >
      <form onSubmit={submit} className="contents">
        <DialogBody>
          {places && <PlaceChoice label="What is it about?" places={places} chosen={place} onChange={setPlace} />}
          {entries && (
            <p className="max-h-24 overflow-y-auto text-sm">
              <Mono>{entries.join('  ')}</Mono>
            </p>
          )}
          <CategoryPicker
            label="It is"
            chosen={categories}
            onChange={setCategories}
            error={[...fields].find(([at]) => at.startsWith('categories'))?.[1]}
          />
          <TextArea
            label="Why"
            rows={2}
            className="font-sans!"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
            placeholder="For whoever wonders later, and for the pack’s maker"
            error={fields.get('reason')}
          />
          {correct.error && !fields.has('reason') && <ProblemNotice error={correct.error} />}
        </DialogBody>
        <DialogFoot>
          <Button onClick={onClose}>Cancel</Button>
          <Button
            type="submit"
            look="main"
            disabled={categories.length === 0 || reason.trim() === '' || correct.isPending}
          >
            Correct
          </Button>
        </DialogFoot>
      </form>
    </Dialog>
  )
}
