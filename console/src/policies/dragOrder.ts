import { type DragEvent, type HTMLAttributes, useRef } from 'react'

/**
 * Lets the user drag the rows of a list into another order. It returns the handlers of a row by its index; it calls move with the old
 * and the new index. Buttons do the same for the keyboard.
 */
export function useDragOrder(move: (from: number, to: number) => void) {
  const from = useRef<number | null>(null)
  return (place: number): HTMLAttributes<HTMLElement> => ({
    draggable: true,
    onDragStart: (event: DragEvent) => {
      from.current = place
      event.dataTransfer.effectAllowed = 'move'
      event.dataTransfer.setData('text/plain', String(place + 1))
    },
    onDragOver: (event: DragEvent) => {
      if (from.current !== null) event.preventDefault()
    },
    onDrop: (event: DragEvent) => {
      event.preventDefault()
      if (from.current !== null && from.current !== place) move(from.current, place)
      from.current = null
    },
    onDragEnd: () => {
      from.current = null
    },
  })
}
