import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { TextArea, TextField } from '../ui/Field'
import { RefPicker } from '../ui/RefPicker'
import { SaveDialog } from '../ui/SaveDialog'
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

/** Creates a group, or edits its name and its members other than people. */
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
  const submit = () => {
    const { lead, ranges, ...rest } = form
    const body = {
      ...rest,
      key: group?.key,
      lead: lead[0],
      ranges: ranges.split(/\s+/).filter((r) => r !== ''),
    }
    return save.mutateAsync(body)
  }
  return (
    <SaveDialog
      title={group ? `Group: ${group.name}` : 'New group'}
      does="putGroup"
      description="People are put into it on the page. Whatever comes from these networks, machines and addresses is in it, too."
      wide
      action={group ? 'Save' : 'Make the group'}
      ready={form.name.trim() !== ''}
      save={submit}
      told={(saved) => `Saved ${saved.name}.`}
      fixed={
        group?.directory &&
        `From the directory ${group.directory.name}, and edited there. Groups of the draft can hold it.`
      }
      remove={group && { thing: group, by: remove }}
      onClose={onClose}
    >
      {(wrong) => (
        <>
          <div className="grid grid-cols-2 gap-6">
            <div className="flex flex-col gap-4">
              <TextField
                label="Name"
                value={form.name}
                onChange={(e) => setForm({ ...form, name: e.target.value })}
                error={wrong('name')}
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
        </>
      )}
    </SaveDialog>
  )
}
