import { z } from '../checks'

/** The fields of a list, with the checks that the service makes, too. */
export const listForm = z.object({
  name: z.string().trim().min(1, 'a name is wanted').max(80, 'longer than 80 characters'),
  description: z.string().max(2000, 'longer than 2,000 characters'),
  owner: z.string().trim().max(80, 'longer than 80 characters'),
  forStints: z.boolean(),
  colour: z.enum(['', 'reed', 'heather', 'rust', 'slate', 'gorse', 'sky', 'plum', 'sand']),
})

export type ListForm = z.infer<typeof listForm>
