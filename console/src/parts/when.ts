const moment = new Intl.DateTimeFormat(undefined, {
  day: 'numeric',
  month: 'short',
  hour: '2-digit',
  minute: '2-digit',
  second: '2-digit',
})

const date = new Intl.DateTimeFormat(undefined, { day: 'numeric', month: 'short', year: 'numeric' })

/** A moment in the reader's own time zone, or a dash. */
export function when(at: string | undefined): string {
  return at ? moment.format(new Date(at)) : '–'
}

/** A day, or a dash. */
export function day(at: string | undefined): string {
  return at ? date.format(new Date(at)) : '–'
}
