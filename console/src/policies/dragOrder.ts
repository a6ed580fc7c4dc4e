import { type DragEvent, type HTMLAttributes, useRef } from 'react'

/**
 * Lets the rows of a list be dragged into another order. The result gives the handlers of a row by its place; move is told from where
 * to where. The keyboard has buttons for the same.
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
