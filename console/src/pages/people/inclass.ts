import { $t } from '../../texts'

/** Whether somebody is in the class outside, in words. */
export const inClass = {
  in: $t('people.inClass'),
  gone: $t('people.notInItAnyMore'),
  'not-in': $t('people.notInClass'),
  waiting: $t('people.notYetInClass'),
  'left-out': $t('people.leftOutOnPurpose'),
  'next-run': $t('people.notYetAsItShould'),
  'not-known': $t('people.notKnown'),
}
