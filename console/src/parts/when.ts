const day = new Intl.DateTimeFormat('en-GB', {
  day: 'numeric',
  month: 'short',
  hour: '2-digit',
  minute: '2-digit',
  second: '2-digit',
})

/** A moment in the reader's own time zone, or a dash. */
export function when(at: string | undefined): string {
  return at ? day.format(new Date(at)) : '–'
}
