import { useQuery } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { ApiProblem } from '../api/client'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { Dialog, DialogBody, DialogFoot } from '../ui/Dialog'
import { DialogDelete } from '../ui/DialogDelete'
import { TextArea, TextField } from '../ui/Field'
import { ProblemNotice } from '../ui/Notice'
import { RefPicker } from '../ui/RefPicker'
import { useSettled } from '../ui/useSettled'
import {
  type Group,
  groupsOptions,
  machinesOptions,
  networksOptions,
  peopleOptions,
  useRemoveGroup,
  useSaveGroup,
} from './peopleQueries'

/** Makes a group, or says who is in it beside the people who say so themselves. */
export function GroupDialog({ group, onClose }: { group?: Group; onClose: () => void }) {
  const [form, setForm] = useState({
    name: group?.name ?? '',
    description: group?.description ?? '',
    groups: group?.groups ?? [],
    networks: group?.networks ?? [],
    machines: group?.machines ?? [],
    lead: group?.lead ? [group.lead] : [],
    ranges: (group?.ranges ?? []).join('\n'),
  })
  const [text, setText] = useState('')
  const groups = useQuery(groupsOptions)
  const networks = useQuery(networksOptions)
  const machines = useQuery(machinesOptions)
  const people = useQuery({ ...peopleOptions(useSettled(text)), enabled: text.trim() !== '' })
  const save = useSaveGroup(group)
  const remove = useRemoveGroup()
  const announce = useAnnounce()
  const fields = save.error instanceof ApiProblem ? save.error.fields : new Map<string, string>()
  const wrong = (path: string) => [...fields].find(([at]) => at.startsWith(path))?.[1]
  const submit = (event: FormEvent) => {
    event.preventDefault()
    const { lead, ranges, ...rest } = form
    const body = {
      ...rest,
      key: group?.key,
      lead: lead[0],
      ranges: ranges.split(/\s+/).filter((r) => r !== ''),
    }
    afterwards(save.mutateAsync(body), (saved) => {
      announce(`Saved ${saved.name}.`)
      onClose()
    })
  }
  return (
    <Dialog
      open
      onOpenChange={(open) => open || onClose()}
      title={group ? `Group: ${group.name}` : 'New group'}
      description="People are put into it on the page. Whatever comes from these networks, machines and addresses is in it, too."
      wide
    >
      <form onSubmit={submit} className="contents">
        <DialogBody>
          <div className="grid grid-cols-2 gap-6">
            <div className="flex flex-col gap-4">
              <TextField
                label="Name"
                value={form.name}
                onChange={(e) => setForm({ ...form, name: e.target.value })}
                error={fields.get('name')}
                autoFocus={!group}
              />
              <TextField
                label="Description"
                value={form.description}
                onChange={(e) => setForm({ ...form, description: e.target.value })}
              />
              <RefPicker
                label="Lead"
                chosen={form.lead}
                offered={(people.data?.items ?? []).map((p) => ({ id: p.id, name: p.fullName || p.name }))}
                onText={setText}
                onChange={(lead) => setForm({ ...form, lead: lead.slice(-1) })}
                placeholder="Type a name"
              />
              <TextArea
                label="Addresses and ranges"
                rows={3}
                spellCheck={false}
                value={form.ranges}
                onChange={(e) => setForm({ ...form, ranges: e.target.value })}
                placeholder="10.40.8.0/24"
                error={wrong('ranges')}
              />
            </div>
            <div className="flex flex-col gap-4">
              <RefPicker
                label="Networks"
                chosen={form.networks}
                offered={networks.data ?? []}
                onChange={(n) => setForm({ ...form, networks: n })}
              />
              <RefPicker
                label="Machines"
                chosen={form.machines}
                offered={machines.data ?? []}
                onChange={(m) => setForm({ ...form, machines: m })}
              />
              <RefPicker
                label="Groups whose members are in it too"
                chosen={form.groups}
                offered={(groups.data ?? []).filter((g) => g.id !== group?.id)}
                onChange={(g) => setForm({ ...form, groups: g })}
                error={wrong('groups')}
              />
            </div>
          </div>
          {save.error && fields.size === 0 && <ProblemNotice error={save.error} />}
          {remove.error && <ProblemNotice error={remove.error} />}
        </DialogBody>
        <DialogFoot>
          {group && <DialogDelete thing={group} remove={remove} onDeleted={onClose} />}
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" look="main" disabled={form.name.trim() === '' || save.isPending}>
            {group ? 'Save' : 'Make the group'}
          </Button>
        </DialogFoot>
      </form>
    </Dialog>
  )
}
