import { $t } from '../../texts'
/** What can be done with many pairings: in the bar, and as the head of what it means. */
export const acts = {
  run: { short: $t('batches.run'), title: $t('batches.bringTheseInStep') },
  hold: { short: $t('batches.hold'), title: $t('batches.holdLearnersBack') },
  open: { short: $t('batches.open'), title: $t('batches.openTheseClasses') },
  pause: { short: $t('common.pause'), title: $t('batches.pauseThese') },
  resume: { short: $t('common.resume'), title: $t('batches.resumeThese') },
  'next-term': { short: $t('common.nextTerm'), title: $t('batches.moveTheseClassesToNext') },
  end: { short: $t('batches.end'), title: $t('batches.endThesePairingsEverybodyStays') },
  'take-out': { short: $t('batches.takeOutAndEnd'), title: $t('batches.takeEverybodyOutAndEnd') },
} as const

/** The head of a batch. */
export function titleOf(act: string) {
  if (act === 'link') return $t('batches.linkTheseSections')
  if (act === 'pair') return $t('batches.pairTheseSections')
  if (act === 'template') return $t('batches.applyTemplateToThese')
  return acts[act as keyof typeof acts]?.title ?? act
}
