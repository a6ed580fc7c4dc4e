import { useState } from 'react'
import { TextArea, TextField } from '../ui/Field'
import { SaveDialog } from '../ui/SaveDialog'
import { type LedGroup, type OwnList, usePutOwn, useRemoveOwn } from './steeringQueries'

type Props = {
  group: LedGroup
  list: OwnList | undefined
  onSaved: (id: string) => void
  onClose: () => void
}

/** A list of a group's leads: new, or to be changed. */
export function OwnListDialog({ group, list, onSaved, onClose }: Props) {
  const [name, setName] = useState(list?.name ?? '')
  const [lines, setLines] = useState(list?.entries.join('\n') ?? '')
  const put = usePutOwn(list?.id)
  const remove = useRemoveOwn()
  const entries = lines
    .split('\n')
    .map((line) => line.trim())
    .filter((line) => line !== '')
  return (
    <SaveDialog
      title={list ? list.name : 'List of your own'}
      does="putOwnList"
      description={`For stints of ${group.name} alone. Its other leads see and change it, too.`}
      action="Save"
      ready={name.trim() !== '' && entries.length > 0}
      save={() => put.mutateAsync({ group: group.id, name: name.trim(), entries })}
      told={(saved) => `Saved ${saved.name}.`}
      then={(saved) => {
        onSaved(saved.id)
        onClose()
      }}
      {...(list && { remove: { thing: { id: list.id, name: list.name }, by: remove } })}
      onClose={onClose}
    >
      {(wrong) => (
        <>
          <TextField
            label="Name"
            value={name}
            onChange={(e) => setName(e.target.value)}
            error={wrong('name')}
            autoFocus
          />
          <TextArea
            label="Sites and pages, one a line"
            rows={8}
            placeholder={'dosage-tables.example\ntidepool-news.example/medicine'}
            value={lines}
            onChange={(e) => setLines(e.target.value)}
            error={entries.map((_, i) => wrong(`entries[${i}]`)).find(Boolean) ?? wrong('entries')}
          />
        </>
      )}
    </SaveDialog>
  )
}
