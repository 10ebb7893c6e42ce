/** Whether a service notifies those for whom it makes accounts. */
export const notices = {
  'not-notified': 'nobody is notified of it',
  notified: 'the service notifies each of them',
  unknown: 'whether the service notifies them is up to it, because the interface names no notice attribute',
}
