import { $t } from '../../texts'
/** Whether a service notifies those for whom it makes accounts. */
export const notices = {
  'not-notified': $t('pairings.nobodyIsNotifiedOfIt'),
  notified: $t('pairings.serviceNotifiesEachOfThem'),
  unknown: $t('pairings.whetherServiceNotifiesThemIs'),
}
