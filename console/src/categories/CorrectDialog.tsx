import { useState } from 'react'
import { type Place, PlaceChoice } from '../places/PlaceChoice'
import { TextArea } from '../ui/Field'
import { count } from '../ui/format'
import { Mono } from '../ui/Mono'
import { SaveDialog } from '../ui/SaveDialog'
import { CategoryPicker } from './CategoryPicker'
import { useCorrect } from './categoryQueries'

type Props = {
  /** Entries that the correction may be about, the narrowest first; the user chooses one. */
  places?: Place[]
  /** Entries that the correction is about, all of them. */
  entries?: string[]
  onClose: () => void
  onDone?: () => void
}

/** Corrects the categories of sites, hosts or pages. */
export function CorrectDialog({ places, entries, onClose, onDone }: Props) {
  const [place, setPlace] = useState(places?.at(-1)?.entry ?? '')
  const [categories, setCategories] = useState<string[]>([])
  const [reason, setReason] = useState('')
  const correct = useCorrect()
  const about = entries ?? [place]
  return (
    <SaveDialog
      title={entries ? `Say what ${count(entries.length, 'site is', 'sites are')}` : 'Correct the catalogue'}
      does="correct"
      description="A correction counts at once, whatever packs and lists say, until it is taken back."
      action="Correct"
      ready={categories.length > 0 && reason.trim() !== ''}
      save={() => correct.mutateAsync({ entries: about, categories, reason })}
      told={({ corrections }) =>
        `Corrected ${corrections.length === 1 ? about[0] : count(corrections.length, 'site', 'sites')}.`
      }
      then={() => {
        onDone?.()
        onClose()
      }}
      onClose={onClose}
    >
      {(wrong) => (
        <>
          {places && <PlaceChoice label="What is it about?" places={places} chosen={place} onChange={setPlace} />}
          {entries && (
            <p className="max-h-24 overflow-y-auto text-sm">
              <Mono>{entries.join('  ')}</Mono>
            </p>
          )}
          <CategoryPicker label="It is" chosen={categories} onChange={setCategories} error={wrong('categories')} />
          <TextArea
            label="Why"
            rows={2}
            className="font-sans!"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
            placeholder="For whoever wonders later, and for the pack's maker"
            error={wrong('reason')}
          />
        </>
      )}
    </SaveDialog>
  )
}
