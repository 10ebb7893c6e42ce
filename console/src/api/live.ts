import type { QueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'

import { type News, Stream, type Wish } from './stream'

/** Whether news of changes arrives. */
export const live = ref(false)

/** Whether the session ended while the page was open. */
export const over = ref(false)

// Which lists a piece of news is about.
const about: Record<string, string[]> = {
  connection: ['connections', 'interfaces', 'today', 'board', 'findings'],
  interface: ['connections', 'interfaces', 'unpaired', 'today', 'board', 'findings', 'matching'],
  section: [
    'teaching',
    'sections',
    'board',
    'courses',
    'sets',
    'maintenance',
    'templates',
    'proposals',
    'linkable',
  ],
  pairing: ['teaching', 'unpaired', 'pairing', 'sections', 'board', 'today', 'findings', 'sets'],
  run: [
    'teaching',
    'run',
    'runs',
    'proofs',
    'at-work',
    'pairing',
    'batch',
    'connections',
    'interfaces',
    'today',
    'findings',
  ],
  scoreLink: ['score-links', 'today', 'findings'],
  batch: ['batch', 'at-work', 'sets'],
  event: ['events', 'sides', 'unmapped', 'offers'],
  delivery: [
    'events',
    'deliveries',
    'rules',
    'today',
    'findings',
    'sides',
    'offers',
    'sheets',
    'look-back',
    'proofs',
  ],
  proof: ['proofs'],
  user: ['users', 'session', 'providers'],
  person: ['same-people', 'merges', 'people', 'today', 'findings'],
  rule: ['rules'],
  task: ['teaching', 'tasks', 'today', 'findings'],
  offer: ['offers', 'sides', 'unmapped', 'accesses', 'today', 'findings'],
  outline: ['outline', 'courses'],
  badge: ['badges', 'awards', 'issuers', 'stages'],
  'stage-plan': ['stage-plans', 'group', 'stage-plan-people', 'stages'],
}

// Where news comes from: a worker that all tabs share, or, in a browser without shared workers,
// a stream of the tab's own, held only while the tab is seen.
let ask: ((wish: Wish) => void) | undefined
let hear: (news: News) => void = () => {}

function source(): (wish: Wish) => void {
  if (typeof SharedWorker !== 'undefined') {
    const { port } = new SharedWorker(new URL('./streamworker.ts', import.meta.url), {
      type: 'module',
      name: 'kanban-news',
    })
    port.onmessage = (m: MessageEvent<News>) => hear(m.data)
    return (wish) => port.postMessage(wish)
  }
  const own = new Stream((news) => hear(news))
  let wanted = false
  const hold = () => (wanted && !document.hidden ? own.open() : own.close())
  document.addEventListener('visibilitychange', hold)
  return (wish) => {
    wanted = wish === 'join'
    hold()
  }
}

let since = 0
let joined = false
let ended: () => void = () => {}

/** Keeps every list that is shown up to date, until stopped; bySomebody is called when the person
 * signs out in another tab. */
export function listen(queries: QueryClient, bySomebody: () => void) {
  ended = bySomebody
  const stale = new Set<string>()
  let timer: ReturnType<typeof setTimeout> | undefined
  const lookAnew = () => {
    timer = undefined
    // What is out of sight is looked at anew when it is seen again.
    const refetchType = document.hidden ? 'none' : 'active'
    for (const key of stale) void queries.invalidateQueries({ queryKey: [key], refetchType })
    stale.clear()
  }
  hear = (news) => {
    switch (news.kind) {
      case 'state':
        // What came before, or in a break, may have been missed.
        if (news.on && news.since !== since) void queries.invalidateQueries()
        if (news.on) since = news.since
        if (news.on) over.value = false
        live.value = news.on
        break
      case 'changed':
        for (const key of about[news.topic] ?? Object.values(about).flat()) stale.add(key)
        timer ??= setTimeout(lookAnew, 120)
        break
      case 'ended':
        live.value = false
        if (news.by === 'person') ended()
        else over.value = true
    }
  }
  if (!ask) {
    ask = source()
    addEventListener('pagehide', () => ask!('leave'))
    addEventListener('pageshow', (e) => {
      if (!e.persisted || !joined) return
      since = 0 // what came meanwhile was missed
      ask!('join')
    })
  }
  joined = true
  ask('join')
}

/** Looks anew at whatever news of these topics is about, after a change of one's own. */
export const refresh = (queries: QueryClient, ...topics: string[]) =>
  Promise.all(topics.flatMap((t) => about[t]!).map((k) => queries.invalidateQueries({ queryKey: [k] })))

/** Stops listening, in every tab, after signing out here. */
export function stop() {
  ask?.('end')
  left()
}

/** Stops listening here, after signing out in another tab. */
export function left() {
  joined = live.value = over.value = false
}
