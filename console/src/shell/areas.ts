/** A page that the navigation leads to. */
export interface Page {
  to: string
  title: string
  /** What people may type to find it. */
  also?: string
}

/** What people do, with the pages for it. */
export interface Area {
  title: string
  pages: Page[]
  /** Beginnings of addresses that belong here besides those of its pages. */
  besides?: string[]
}

/** Everything that the navigation shows, in its order. A new room is one more line here. */
export const areas: Area[] = [
  {
    title: 'To do',
    pages: [
      { to: '/board', title: 'Board', also: 'today start home overview' },
      { to: '/findings', title: 'Findings', also: 'problems errors acknowledge' },
      { to: '/tasks', title: 'Tasks', also: 'sheets to do' },
      { to: '/findings/catalogue', title: 'Kinds of findings', also: 'explain codes catalogue help' },
    ],
  },
  {
    title: 'Sections',
    pages: [
      { to: '/sections', title: 'All sections', also: 'classes rosters pair' },
      { to: '/sections/linked', title: 'Linked sets', also: 'link unlink cross-list' },
      { to: '/sections/lists', title: 'People lists', also: 'groups' },
      { to: '/runs', title: 'Runs', also: 'reads syncs history' },
      { to: '/batches', title: 'Batches', also: 'many at once' },
      { to: '/next-term', title: 'Next term', also: 'rollover successors' },
    ],
    besides: ['/pairings'],
  },
  {
    title: 'Courses',
    pages: [
      { to: '/outlines', title: 'Outlines', also: 'modules activities progress' },
      { to: '/stage-plans', title: 'Stage plans', also: 'stages progress' },
      { to: '/access', title: 'Access', also: 'offers purchases places' },
    ],
  },
  {
    title: 'People',
    pages: [{ to: '/people', title: 'People', also: 'learners teachers persons' }],
  },
  {
    title: 'Rules',
    pages: [
      { to: '/rules', title: 'Rules', also: 'actions conditions' },
      { to: '/events', title: 'Events', also: 'what happened' },
      { to: '/deliveries', title: 'Deliveries', also: 'sent messages retry give up' },
    ],
  },
  { title: 'Badges', pages: [{ to: '/awards', title: 'Badges', also: 'awards issuers credentials' }] },
  {
    title: 'Connections',
    pages: [{ to: '/connections', title: 'Connections', also: 'interfaces registers services platforms' }],
    besides: ['/interfaces'],
  },
  {
    title: 'Settings',
    pages: [
      { to: '/settings', title: 'Settings', also: 'templates names tokens pause history' },
      { to: '/settings/set-up', title: 'Set-up as files', also: 'export import configuration' },
    ],
  },
]

const begins = (path: string, with_: string) => path === with_ || path.startsWith(`${with_}/`)

/** The page of the navigation to which an address belongs: the one that says most of it. */
export function pageOf(path: string): { area: Area; page?: Page } | undefined {
  let best: { area: Area; page?: Page; length: number } | undefined
  for (const area of areas) {
    for (const page of area.pages) {
      if (begins(path, page.to) && page.to.length > (best?.length ?? 0)) {
        best = { area, page, length: page.to.length }
      }
    }
    for (const b of area.besides ?? []) {
      if (begins(path, b) && b.length > (best?.length ?? 0)) best = { area, length: b.length }
    }
  }
  return best && { area: best.area, page: best.page }
}
