// What a person types at a command line, behind a colon or in brackets: `: kanban rules try "A"`.
const nouns =
  'pairings|people|sections|interfaces|connections|rules|runs|events|deliveries|findings|courses|badges|' +
  'offers|tasks|lists|operations|matching|maintenance|stages|sets|batches|awards|config|scores|reports|sign-in|serve'
const word = String.raw`(?:package\.zip|[a-z][a-z-]*|--[a-z-]+|[A-Za-z]+=[A-Z-]+|[A-Z][A-Z-]*|\d+[hms]|"[^"]*"|[0-9a-f-]{36})`
const command = String.raw`kanban (?:${nouns})(?: ${word})*`
const inBrackets = new RegExp(String.raw` \(${command}(?:, then ${command})?\)`, 'g')
const behindColon = new RegExp(String.raw`: ${command}(?=[.;,)]|$)`, 'g')

/** A text of the service as one reads it in a browser: it says what to do, and not which command
 * does it. */
export const plain = (text: string) => text.replace(inBrackets, '').replace(behindColon, '')

// The fields in which the service says what to do next.
const fields = new Set(['remedy', 'next', 'detail', 'problem', 'error', 'stoppedBy'])

/** Makes the service's texts in an answer plain, wherever in it they are. */
export function plainly<T>(data: T): T {
  if (Array.isArray(data)) {
    for (const one of data) plainly(one)
  } else if (data && typeof data === 'object') {
    const all = data as Record<string, unknown>
    for (const key in all) {
      const value = all[key]
      if (typeof value === 'string') {
        if (fields.has(key) && value.includes('kanban ')) all[key] = plain(value)
      } else if (value) plainly(value)
    }
  }
  return data
}
