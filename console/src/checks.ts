import { z } from 'zod'

// The console's content security policy forbids code made from text, which zod would otherwise probe for. All modules that need
// zod import it from here, so that this setting comes first.
z.config({ jitless: true })

export { z }
