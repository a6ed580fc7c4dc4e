import { clsx } from 'clsx'
import type { ListForm } from './listForm'

type Colour = ListForm['colour']

const inks: Record<Exclude<Colour, ''>, string> = {
  reed: 'bg-[var(--mark-reed)]',
  heather: 'bg-[var(--mark-heather)]',
  rust: 'bg-[var(--mark-rust)]',
  slate: 'bg-[var(--mark-slate)]',
  gorse: 'bg-[var(--mark-gorse)]',
  sky: 'bg-[var(--mark-sky)]',
  plum: 'bg-[var(--mark-plum)]',
  sand: 'bg-[var(--mark-sand)]',
}

/** The colour mark of a list beside its name; hidden from screen readers. */
export function ColourMark({ colour }: { colour: Colour }) {
  return (
    <span
      aria-hidden
      className={clsx('my-1 inline-block w-1.5 shrink-0 self-stretch', colour ? inks[colour] : 'bg-transparent')}
    />
  )
}

type Props = { value: Colour; onChange: (colour: Colour) => void }

export function ColourField({ value, onChange }: Props) {
  return (
    <fieldset className="flex flex-col gap-1">
      <legend className="font-semibold text-sm">Colour</legend>
      <div className="flex flex-wrap gap-x-4 gap-y-1">
        {(['', ...Object.keys(inks)] as Colour[]).map((colour) => (
          <label key={colour} className="flex items-center gap-1.5 text-sm">
            <input
              type="radio"
              name="colour"
              checked={value === colour}
              onChange={() => onChange(colour)}
              className="accent-reed"
            />
            <ColourMark colour={colour} />
            {colour || 'none'}
          </label>
        ))}
      </div>
    </fieldset>
  )
}
