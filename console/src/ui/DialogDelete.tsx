import type { UseMutationResult } from '@tanstack/react-query'
import { afterwards } from './afterwards'
import { useAnnounce } from './announce'
import { Button } from './Button'

type Props<T> = {
  /** The object that the dialog shows. */
  thing: T
  remove: UseMutationResult<unknown, Error, T>
  onDeleted: () => void
}

/** A button that deletes the object of a dialog. It stands apart from the buttons that close the dialog, which shows the error. */
export function DialogDelete<T extends { name: string }>({ thing, remove, onDeleted }: Props<T>) {
  const announce = useAnnounce()
  return (
    <Button
      look="danger"
      className="mr-auto"
      disabled={remove.isPending}
      onClick={() =>
        afterwards(remove.mutateAsync(thing), () => {
          announce(`Deleted ${thing.name}.`)
          onDeleted()
        })
      }
    >
      Delete
    </Button>
  )
}
