/** A text as a value of a query. */
export const quoted = (text: string) =>
  /[\s,()|":<>]|\.\./.test(text) || text === '' ? `"${text.replace(/[\\"]/g, '\\$&')}"` : text
