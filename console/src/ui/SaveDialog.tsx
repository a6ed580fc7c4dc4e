import { type UseMutationResult, useMutation } from '@tanstack/react-query'
import type { ReactNode } from 'react'
import { type Does, useMay } from '../may/may'
import { type Action, useAnnounce } from './announce'
import { Button } from './Button'
import { Dialog, DialogBody, DialogFoot } from './Dialog'
import { DialogDelete } from './DialogDelete'
import { fieldProblems, type Wrong } from './fieldProblems'
import { ProblemNotice } from './Notice'

type Thing = { name: string }

type Props<Saved, T extends Thing> = {
  title: string
  /** One sentence that describes the dialog; read out with the title. */
  description: ReactNode
  wide?: boolean
  /** The operation that saving is. Whoever may not carry it out looks at the fields, and changes nothing. */
  does: Does
  /** The label of the button. */
  action: string
  /** Whether all required fields are filled in. */
  ready: boolean
  save: () => Promise<Saved>
  /** The announcement after saving. */
  told: (saved: Saved) => string
  /** Undoes what was saved. */
  undo?: (saved: Saved) => Action | undefined
  /** Called after saving; by default, the dialog closes. */
  then?: (saved: Saved) => void
  /** Why nothing can be changed here, whoever looks at it. */
  fixed?: string
  /** The object of the dialog, if it can be deleted here. */
  remove?: { thing: T; by: UseMutationResult<unknown, Error, T> }
  onClose: () => void
  /** The fields. Problems that no field shows are shown below them. */
  children: (wrong: Wrong) => ReactNode
}

/** A dialog with a form that is saved: the base of all dialogs that create or edit an object. */
export function SaveDialog<Saved, T extends Thing>(props: Props<Saved, T>) {
  const { title, description, wide, action, ready, remove, onClose } = props
  const announce = useAnnounce()
  const may = useMay()(props.does) && props.fixed === undefined
  const save = useMutation({
    // It uses the values that the page showed when the button was pressed: later ones may include the edit, and an undo would restore it.
    mutationFn: (pressed: Props<Saved, T>) => pressed.save(),
    onSuccess: (saved, pressed) => {
      announce(pressed.told(saved), pressed.undo?.(saved))
      if (pressed.then) pressed.then(saved)
      else pressed.onClose()
    },
  })
  const { wrong, others } = fieldProblems(save.error)
  return (
    <Dialog open onOpenChange={(open) => open || onClose()} title={title} description={description} wide={wide}>
      <form
        onSubmit={(event) => {
          event.preventDefault()
          save.mutate(props)
        }}
        className="contents"
      >
        <DialogBody>
          {props.fixed && <p className="border-rule border-l-3 bg-wash px-3 py-2">{props.fixed}</p>}
          <fieldset disabled={!may} className="contents">
            {props.children(wrong)}
          </fieldset>
          {others()}
          {remove?.by.error && <ProblemNotice error={remove.by.error} />}
        </DialogBody>
        <DialogFoot>
          {remove && may && <DialogDelete thing={remove.thing} remove={remove.by} onDeleted={onClose} />}
          <Button onClick={onClose}>{may ? 'Cancel' : 'Close'}</Button>
          {props.fixed === undefined && (
            <Button type="submit" look="main" does={props.does} disabled={!ready || save.isPending}>
              {action}
            </Button>
          )}
        </DialogFoot>
      </form>
    </Dialog>
  )
}
