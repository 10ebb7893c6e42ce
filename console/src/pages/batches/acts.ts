/** What can be done with many pairings: in the bar, and as the head of what it means. */
export const acts = {
  run: { short: 'Run', title: 'Bring these in step' },
  hold: { short: 'Hold', title: 'Hold learners back' },
  open: { short: 'Open', title: 'Open these classes' },
  pause: { short: 'Pause', title: 'Pause these' },
  resume: { short: 'Resume', title: 'Resume these' },
  'next-term': { short: 'Next term', title: 'Move these classes to the next term' },
  end: { short: 'End', title: 'End these pairings, everybody stays' },
  'take-out': { short: 'Take out and end', title: 'Take everybody out and end these pairings' },
} as const

/** The head of a batch. */
export function titleOf(act: string) {
  if (act === 'link') return 'Link these sections'
  if (act === 'pair') return 'Pair these sections'
  if (act === 'template') return 'Apply a template to these'
  return acts[act as keyof typeof acts]?.title ?? act
}
