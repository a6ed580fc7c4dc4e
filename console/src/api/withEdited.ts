/** The objects of a kind, with one of them replaced by its edited form. */
export const withEdited = <T extends { id: string }>(all: T[] | undefined, edited: T) =>
  all?.map((o) => (o.id === edited.id ? edited : o))
