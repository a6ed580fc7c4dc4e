import { useState } from 'react'
import { TextArea } from '../ui/Field'
import { SaveDialog } from '../ui/SaveDialog'
import { usePutDeskMail } from './requestQueries'

/** Whom mail tells of new requests. */
export function DeskMailDialog({ addresses, onClose }: { addresses: string[]; onClose: () => void }) {
  const [lines, setLines] = useState(addresses.join('\n'))
  const put = usePutDeskMail()
  const wanted = lines.split(/[\s,]+/).filter((a) => a !== '')
  return (
    <SaveDialog
      title="Mail to the desk"
      does="putDeskMail"
      description="One mail for each site that is asked for, as long as a request for it is open."
      action="Save"
      ready
      save={() => put.mutateAsync(wanted)}
      told={(saved) =>
        saved.deskMail.length === 0 ? 'Nobody is told by mail.' : `Mail goes to ${saved.deskMail.join(', ')}.`
      }
      onClose={onClose}
    >
      {(wrong) => (
        <TextArea
          label="Addresses, one a line"
          rows={3}
          placeholder="desk@quillmere.example"
          value={lines}
          onChange={(e) => setLines(e.target.value)}
          error={wanted.map((_, i) => wrong(`addresses[${i}]`)).find(Boolean)}
        />
      )}
    </SaveDialog>
  )
}
