import { useQuery } from '@tanstack/react-query'
import { meOptions } from '../session/sessionQueries'
import { Dialog, DialogBody } from '../ui/Dialog'
import { FactorSection } from './FactorSection'
import { PasswordForm } from './PasswordForm'
import { SessionSection } from './SessionSection'
import { TokenSection } from './TokenSection'

/** The user's own account: password, second factors, sessions, tokens. */
export function AccountDialog({ onClose }: { onClose: () => void }) {
  const me = useQuery(meOptions)
  const elsewhere = me.data?.provider ?? false
  return (
    <Dialog
      open
      onOpenChange={(open) => !open && onClose()}
      title="Your account"
      description={
        elsewhere
          ? 'Your identity provider keeps its password.'
          : 'Another password ends all your other sessions; tokens stay.'
      }
    >
      <DialogBody>
        {!elsewhere && <PasswordForm />}
        {!elsewhere && <FactorSection />}
        <SessionSection />
        <TokenSection />
      </DialogBody>
    </Dialog>
  )
}
