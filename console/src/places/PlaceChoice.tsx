import { Mono } from '../ui/Mono'

/** An entry that can be chosen, and what it covers in words. */
export type Place = { entry: string; meaning: string }

type Props = { label: string; places: Place[]; chosen: string; onChange: (entry: string) => void }

/** Chooses how much of a site is meant: this page, this host, or the whole site. */
export function PlaceChoice({ label, places, chosen, onChange }: Props) {
  return (
    <fieldset className="flex flex-col gap-1.5">
      <legend className="pb-1 font-semibold text-sm">{label}</legend>
      {places.map((p) => (
        <label key={p.entry} className="flex items-baseline gap-2">
          <input
            type="radio"
            name="place"
            className="accent-reed"
            checked={chosen === p.entry}
            onChange={() => onChange(p.entry)}
          />
          <span>
            <Mono>{p.entry}</Mono> <span className="text-sm text-soft">{p.meaning}</span>
          </span>
        </label>
      ))}
    </fieldset>
  )
}
