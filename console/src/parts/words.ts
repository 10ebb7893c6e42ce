const outcomes: Record<string, [one: string, many: string]> = {
  'needs-person': ['needs a person', 'need a person'],
  'not-arrived': ['sent, not there', 'sent, not there'],
}

/** An outcome in words, for one person or for several. */
export function outcome(name: string, n = 1): string {
  return outcomes[name]?.[n === 1 ? 0 : 1] ?? name.replaceAll('-', ' ')
}
