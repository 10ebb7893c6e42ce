// As the reader's own language writes it, in the reader's time zone.
const minute: Intl.DateTimeFormatOptions = {
  day: 'numeric',
  month: 'short',
  hour: '2-digit',
  minute: '2-digit',
}
const toTheMinute = new Intl.DateTimeFormat(undefined, minute)
const toTheSecond = new Intl.DateTimeFormat(undefined, { ...minute, second: '2-digit' })
const toTheSecondWithYear = new Intl.DateTimeFormat(undefined, {
  ...minute,
  second: '2-digit',
  year: 'numeric',
})
const withYear = new Intl.DateTimeFormat(undefined, { ...minute, year: 'numeric' })
const date = new Intl.DateTimeFormat(undefined, { day: 'numeric', month: 'short', year: 'numeric' })

/** A moment to the minute, with the year when it is another one; or a dash. */
export function when(at: string | undefined): string {
  if (!at) return '–'
  const then = new Date(at)
  return (then.getFullYear() === new Date().getFullYear() ? toTheMinute : withYear).format(then)
}

/** A moment to the second, where the order of things matters, with the year when it is another one; or a dash. */
export function exactly(at: string | undefined): string {
  if (!at) return '–'
  const then = new Date(at)
  return (then.getFullYear() === new Date().getFullYear() ? toTheSecond : toTheSecondWithYear).format(then)
}

/** A day, or a dash. */
export function day(at: string | undefined): string {
  return at ? date.format(new Date(at)) : '–'
}
