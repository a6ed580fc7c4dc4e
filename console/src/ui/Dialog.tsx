import { clsx } from 'clsx'
import { X } from 'lucide-react'
import { Dialog as Primitive } from 'radix-ui'
import { type ReactNode, useState } from 'react'
import { IconButton } from './Button'

type Props = {
  open: boolean
  onOpenChange: (open: boolean) => void
  title: string
  /** One sentence that describes the dialog; read out with the title. */
  description: ReactNode
  wide?: boolean
  children: ReactNode
}

/** The element with the focus before a dialog opens; for an item of a menu, the button of the menu. */
function findOpener() {
  const menu = document.activeElement?.closest('[role="menu"]')
  const opener = menu ? document.getElementById(menu.getAttribute('aria-labelledby') ?? '') : document.activeElement
  return opener instanceof HTMLElement ? opener : null
}

/** The element that gets the focus: the first field of a dialog, or else the button that closes it. */
const firstField = 'input:not([type=hidden], :disabled), textarea:not(:disabled), select:not(:disabled)'

/** A dialog over the page. The focus moves into it and returns to the element that opened it. It is rendered only while it is open. */
export function Dialog({ open, onOpenChange, title, description, wide, children }: Props) {
  const [opener] = useState(findOpener)
  return (
    <Primitive.Root open={open} onOpenChange={onOpenChange}>
      <Primitive.Portal>
        <Primitive.Overlay className="fixed inset-0 z-40 bg-shade" />
        <Primitive.Content
          onOpenAutoFocus={(event) => {
            const field = (event.target as HTMLElement).querySelector<HTMLElement>(firstField)
            if (!field) return
            event.preventDefault()
            field.focus()
          }}
          onCloseAutoFocus={() => (opener?.isConnected ? opener : document.getElementById('page'))?.focus()}
          className={clsx(
            'fixed top-[8vh] left-1/2 z-50 flex max-h-[84vh] -translate-x-1/2 flex-col rounded-sm border border-edge bg-leaf',
            wide ? 'w-[min(56rem,94vw)]' : 'w-[min(30rem,94vw)]',
          )}
        >
          <div className="flex items-start gap-4 border-rule border-b px-5 pt-4 pb-3">
            <div className="grow">
              <Primitive.Title className="font-semibold text-lg">{title}</Primitive.Title>
              <Primitive.Description className="text-sm text-soft">{description}</Primitive.Description>
            </div>
            <Primitive.Close asChild>
              <IconButton label="Close">
                <X size={18} aria-hidden />
              </IconButton>
            </Primitive.Close>
          </div>
          {children}
        </Primitive.Content>
      </Primitive.Portal>
    </Primitive.Root>
  )
}

export function DialogBody({ children }: { children: ReactNode }) {
  return <div className="flex min-h-0 grow flex-col gap-4 overflow-y-auto px-5 py-4">{children}</div>
}

export function DialogFoot({ children }: { children: ReactNode }) {
  return <div className="flex items-center justify-end gap-2 border-rule border-t px-5 py-3">{children}</div>
}
