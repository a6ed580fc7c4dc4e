/** Whether the browser has passkeys. */
export const hasPasskeys = () => 'PublicKeyCredential' in window

type Answer = Record<string, unknown>

const asJSON = (made: Credential | null): Answer => {
  if (!made) throw new Error('No passkey was chosen.')
  return (made as PublicKeyCredential).toJSON() as unknown as Answer
}

/** The browser's words for what went wrong are about its own parts; these are about the person. */
const said = (error: unknown) =>
  error instanceof DOMException && error.name === 'NotAllowedError'
    ? new Error('No passkey was chosen, or it took too long.')
    : error instanceof DOMException && error.name === 'InvalidStateError'
      ? new Error('This device has a passkey for your account already.')
      : error

/** Has the person show a passkey, as the service's options say. */
export async function askPasskey(options: unknown): Promise<Answer> {
  try {
    const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(options as PublicKeyCredentialRequestOptionsJSON)
    return asJSON(await navigator.credentials.get({ publicKey }))
  } catch (error) {
    throw said(error)
  }
}

/** Has the device make a passkey, as the service's options say. */
export async function makePasskey(options: unknown): Promise<Answer> {
  try {
    const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(
      options as PublicKeyCredentialCreationOptionsJSON,
    )
    return asJSON(await navigator.credentials.create({ publicKey }))
  } catch (error) {
    throw said(error)
  }
}
