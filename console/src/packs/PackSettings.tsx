import { Check, Choice, TextField } from '../ui/Field'
import type { Pack } from './packQueries'

export type PackForm = {
  name: string
  url: string
  everyMinutes: number
  maxShrink: number
  hold: boolean
  paused: boolean
}

/** The settings of a pack; for a new pack, the usual ones. */
export const packForm = (pack?: Pack): PackForm => ({
  name: pack?.name ?? '',
  url: pack?.url ?? '',
  everyMinutes: pack?.everyMinutes ?? 1440,
  maxShrink: pack?.maxShrink ?? 20,
  hold: pack?.hold ?? true,
  paused: pack?.paused ?? false,
})

const usual: [string, string][] = [
  ['60', 'hour'],
  ['360', '6 hours'],
  ['720', '12 hours'],
  ['1440', 'day'],
  ['10080', 'week'],
]

type Props = {
  form: PackForm
  setForm: (form: PackForm) => void
  /** The problems of the name and of the address. */
  name?: string
  url?: string
}

export function SettingsFields({ form, setForm, name, url }: Props) {
  const every = String(form.everyMinutes)
  return (
    <>
      <TextField
        label="Name"
        value={form.name}
        onChange={(e) => setForm({ ...form, name: e.target.value })}
        error={name}
      />
      <TextField
        label="Address of the pack"
        type="url"
        value={form.url}
        onChange={(e) => setForm({ ...form, url: e.target.value })}
        placeholder="https://packs.harbour.example/catalogue.larkpack"
        hint="May stay empty for a pack whose files are imported by hand."
        error={url}
      />
      <div className="flex gap-4">
        <Choice
          label="Pull every"
          value={every}
          onChange={(value) => setForm({ ...form, everyMinutes: Number(value) })}
          options={usual.some(([value]) => value === every) ? usual : [...usual, [every, `${every} minutes`]]}
        />
        <TextField
          label="May shrink by, %"
          type="number"
          min={0}
          max={100}
          value={form.maxShrink}
          onChange={(e) => setForm({ ...form, maxShrink: Number(e.target.value) })}
        />
      </div>
      <Check
        label="Let updates wait until somebody has looked at them"
        checked={form.hold}
        onChange={(hold) => setForm({ ...form, hold })}
      />
      <Check label="Pull by hand only" checked={form.paused} onChange={(paused) => setForm({ ...form, paused })} />
    </>
  )
}
