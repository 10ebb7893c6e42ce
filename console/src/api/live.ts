import type { QueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'

/** Whether news of changes arrives. */
export const live = ref(false)

// Which lists a piece of news is about.
const about: Record<string, string[]> = {
  connection: ['connections', 'interfaces', 'today', 'board', 'findings'],
  interface: ['connections', 'interfaces', 'unpaired', 'today', 'board', 'findings', 'matching'],
  section: ['sections', 'board', 'courses', 'sets', 'maintenance', 'templates', 'proposals', 'linkable'],
  pairing: ['unpaired', 'pairing', 'sections', 'board', 'today', 'findings', 'sets'],
  run: ['run', 'runs', 'pairing', 'batch', 'connections', 'interfaces', 'today', 'findings'],
  batch: ['batch', 'sets'],
  event: ['events', 'sides', 'unmapped', 'offers'],
  delivery: ['events', 'deliveries', 'rules', 'today', 'findings', 'sides', 'offers', 'sheets', 'look-back'],
  rule: ['rules'],
  task: ['tasks', 'today', 'findings'],
  offer: ['offers', 'sides', 'unmapped', 'accesses', 'today', 'findings'],
  outline: ['outline', 'courses'],
  badge: ['badges', 'awards', 'stages'],
  'stage-plan': ['stage-plans', 'group', 'stage-plan-people', 'stages'],
}

let source: EventSource | undefined

/** Keeps every list that is shown up to date, until stopped. */
export function listen(queries: QueryClient) {
  if (source) return
  source = new EventSource('/api/v1/live')
  const stale = new Set<string>()
  let timer: ReturnType<typeof setTimeout> | undefined
  const lookAnew = () => {
    timer = undefined
    for (const key of stale) void queries.invalidateQueries({ queryKey: [key] })
    stale.clear()
  }
  source.onmessage = (message) => {
    const { topic } = JSON.parse(message.data as string) as { topic: string }
    for (const key of about[topic] ?? Object.values(about).flat()) stale.add(key)
    timer ??= setTimeout(lookAnew, 120)
  }
  source.addEventListener('hello', () => {
    // After a break something may have been missed.
    if (!live.value) void queries.invalidateQueries()
    live.value = true
  })
  source.onerror = () => (live.value = false)
  // A page that is left, and kept for Back, must not hold one of the few connections that a
  // browser has for a host; coming back it listens anew.
  const left = () => {
    stop()
    addEventListener('pageshow', (e) => e.persisted && listen(queries), { once: true })
  }
  addEventListener('pagehide', left, { once: true })
}

/** Looks anew at whatever news of these topics is about, after a change of one's own. */
export const refresh = (queries: QueryClient, ...topics: string[]) =>
  Promise.all(topics.flatMap((t) => about[t]!).map((k) => queries.invalidateQueries({ queryKey: [k] })))

/** Stops listening, after signing out. */
export function stop() {
  source?.close()
  source = undefined
  live.value = false
}
