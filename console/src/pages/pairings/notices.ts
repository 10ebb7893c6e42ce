/** Whether a service tells those for whom it makes accounts. */
export const notices = {
  quiet: 'nobody is told about it',
  told: 'the service tells each of them',
  unknown: 'whether the service tells them is up to it, because the connection names no notice attribute',
}
