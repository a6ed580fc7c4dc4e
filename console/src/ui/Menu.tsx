import { DropdownMenu } from 'radix-ui'
import type { ReactNode } from 'react'
import { type Does, useMay } from '../may/may'

type Props = {
  /** The button that opens the menu. */
  trigger: ReactNode
  children: ReactNode
}

export function Menu({ trigger, children }: Props) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>{trigger}</DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={4}
          className="z-50 min-w-44 rounded-sm border border-edge bg-leaf py-1"
        >
          {children}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  )
}

type ItemProps = {
  onSelect: () => void
  disabled?: boolean
  /** The operation that the item leads to. Whoever may not carry it out does not see the item. */
  does?: Does
  children: ReactNode
}

export function MenuItem({ onSelect, disabled, does, children }: ItemProps) {
  const may = useMay()
  if (!may(does)) return null
  return (
    <DropdownMenu.Item
      onSelect={onSelect}
      disabled={disabled}
      className="flex items-center gap-2 px-3 py-1.5 text-sm outline-none data-[disabled]:opacity-50 data-[highlighted]:bg-wash"
    >
      {children}
    </DropdownMenu.Item>
  )
}
