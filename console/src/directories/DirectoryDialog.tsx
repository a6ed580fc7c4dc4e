import { useState } from 'react'
import { Check, Choice, TextField } from '../ui/Field'
import { SaveDialog } from '../ui/SaveDialog'
import { type Directory, useAddDirectory, useEditDirectory, useRemoveDirectory } from './directoryQueries'

const kinds: [string, string][] = [
  ['ldap', 'an LDAP server'],
  ['file', 'a file, LDIF or CSV'],
  ['scim', 'a program, by SCIM'],
]

const usual: [string, string][] = [
  ['15', '15 minutes'],
  ['60', 'hour'],
  ['360', '6 hours'],
  ['1440', 'day'],
]

/** Has a directory read, or changes how that is done. */
export function DirectoryDialog({ directory: d, onClose }: { directory?: Directory; onClose: () => void }) {
  const [form, setForm] = useState({
    name: d?.name ?? '',
    kind: d?.kind ?? 'ldap',
    url: d?.url ?? '',
    base: d?.base ?? '',
    bind: d?.bind ?? '',
    password: '',
    nameField: d?.nameField ?? '',
    keyField: d?.keyField ?? '',
    everyMinutes: d?.everyMinutes ?? 60,
    maxShrink: d?.maxShrink ?? 10,
    hold: d?.hold ?? false,
    paused: d?.paused ?? false,
  })
  const add = useAddDirectory()
  const edit = useEditDirectory(d?.id ?? '')
  const remove = useRemoveDirectory()
  const ldap = form.kind === 'ldap'
  const every = String(form.everyMinutes)
  const save = () => {
    const { kind, password, url, base, bind, ...rest } = form
    const where = { url: kind === 'scim' ? '' : url, base: ldap ? base : '', bind: ldap ? bind : '' }
    const body = { ...rest, ...where, password: password || undefined }
    return d ? edit.mutateAsync(body) : add.mutateAsync({ ...body, kind })
  }
  return (
    <SaveDialog
      title={d ? `Directory: ${d.name}` : 'New directory'}
      does={d ? 'editDirectory' : 'addDirectory'}
      description="What it says of people and groups holds at once, in the draft and live alike, and is edited there alone."
      wide
      action={d ? 'Save' : 'Add the directory'}
      ready={form.name.trim() !== '' && (!ldap || (form.url !== '' && form.base !== ''))}
      save={save}
      told={(saved) => `Saved the directory ${saved.name}.`}
      remove={d && { thing: d, by: remove }}
      onClose={onClose}
    >
      {(wrong) => (
        <div className="grid grid-cols-2 gap-6">
          <div className="flex flex-col gap-4">
            <TextField
              label="Name"
              value={form.name}
              onChange={(e) => setForm({ ...form, name: e.target.value })}
              error={wrong('name')}
              autoFocus={!d}
            />
            {!d && (
              <Choice
                label="People come from"
                value={form.kind}
                onChange={(kind) => setForm({ ...form, kind: kind as Directory['kind'] })}
                options={kinds}
              />
            )}
            {form.kind !== 'scim' && (
              <TextField
                label="Address"
                value={form.url}
                onChange={(e) => setForm({ ...form, url: e.target.value })}
                placeholder={ldap ? 'ldaps://ldap.quillmere.example' : 'https://files.quillmere.example/people.csv'}
                hint={ldap ? undefined : 'May stay empty where somebody hands the file over.'}
                error={wrong('url')}
              />
            )}
            {ldap && (
              <>
                <TextField
                  label="Below"
                  value={form.base}
                  onChange={(e) => setForm({ ...form, base: e.target.value })}
                  placeholder="dc=quillmere,dc=example"
                  error={wrong('base')}
                />
                <TextField
                  label="Signs in as"
                  value={form.bind}
                  onChange={(e) => setForm({ ...form, bind: e.target.value })}
                  hint="May stay empty where the server tells anybody."
                  error={wrong('bind')}
                />
                <TextField
                  label="Password"
                  type="password"
                  autoComplete="off"
                  value={form.password}
                  onChange={(e) => setForm({ ...form, password: e.target.value })}
                  placeholder={d?.hasPassword ? 'as before' : ''}
                  error={wrong('password')}
                />
              </>
            )}
            {form.kind === 'scim' && (
              <p className="text-sm text-soft">
                Make a token on the page of the directory, and give it to the program with the address shown there.
              </p>
            )}
          </div>
          <div className="flex flex-col gap-4">
            {form.kind !== 'scim' && (
              <>
                <Choice
                  label="Read every"
                  value={every}
                  onChange={(value) => setForm({ ...form, everyMinutes: Number(value) })}
                  options={usual.some(([value]) => value === every) ? usual : [...usual, [every, `${every} minutes`]]}
                />
                <Check
                  label="Read by hand only"
                  checked={form.paused}
                  onChange={(paused) => setForm({ ...form, paused })}
                />
              </>
            )}
            <TextField
              label="People who may go by themselves, %"
              type="number"
              min={0}
              max={100}
              value={form.maxShrink}
              onChange={(e) => setForm({ ...form, maxShrink: Number(e.target.value) })}
              hint="Where more would go, the change waits for somebody."
            />
            <Check
              label="Let every change wait until somebody has looked at it"
              checked={form.hold}
              onChange={(hold) => setForm({ ...form, hold })}
            />
            {form.kind !== 'scim' && (
              <>
                <TextField
                  label="Attribute that people sign in with"
                  value={form.nameField}
                  onChange={(e) => setForm({ ...form, nameField: e.target.value })}
                  placeholder="uid"
                />
                <TextField
                  label="Attribute that never changes"
                  value={form.keyField}
                  onChange={(e) => setForm({ ...form, keyField: e.target.value })}
                  placeholder="entryUUID"
                  hint="By it somebody is known again under another name."
                />
              </>
            )}
          </div>
        </div>
      )}
    </SaveDialog>
  )
}
