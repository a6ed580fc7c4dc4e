import type { UseMutationResult } from '@tanstack/react-query'
import { afterwards } from './afterwards'
import { useAnnounce } from './announce'
import { Button } from './Button'

type Props<T> = {
  /** What the dialog shows. */
  thing: T
  remove: UseMutationResult<unknown, Error, T>
  onDeleted: () => void
}

/** Deletes what a dialog shows. It stands apart from what closes the dialog; the dialog tells the error. */
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
