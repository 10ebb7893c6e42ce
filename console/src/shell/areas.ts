import { $t } from '../texts'
/** A page that the navigation leads to. */
export interface Page {
  to: string
  title: string
  /** What people may type to find it. */
  also?: string
  /** The act that it takes; to look, when it does not say. */
  act?: string
  /** Whether it is for those too who reach only a part of the institution. */
  part?: boolean
}

/** What people do, with the pages for it. */
export interface Area {
  title: string
  pages: Page[]
  /** Whether it stands beside what people do, not among it. */
  aside?: boolean
  /** Beginnings of addresses that belong here besides those of its pages. */
  besides?: string[]
}

/** Everything that the navigation shows, in its order. A new room is one more line here. */
export const areas: Area[] = [
  {
    title: $t('teaching.mySections'),
    pages: [
      {
        to: '/teaching',
        part: true,
        title: $t('teaching.mySections'),
        also: $t('teaching.mySectionsAlso'),
        act: 'teach',
      },
    ],
  },
  {
    title: $t('shell.toDo'),
    pages: [
      { to: '/board', part: true, title: $t('shell.board'), also: $t('shell.todayStartHomeOverview') },
      {
        to: '/findings',
        part: true,
        title: $t('shell.findings'),
        also: $t('shell.problemsErrorsAcknowledge'),
      },
      { to: '/tasks', part: true, title: $t('shell.tasks'), also: $t('shell.sheetsToDo') },
      {
        to: '/findings/catalogue',
        part: true,
        title: $t('shell.kindsOfFindings'),
        also: $t('shell.explainCodesCatalogueHelp'),
      },
    ],
  },
  {
    title: $t('common.sections'),
    pages: [
      { to: '/sections', part: true, title: $t('shell.allSections'), also: $t('shell.classesRostersPair') },
      {
        to: '/sections/linked',
        part: true,
        title: $t('common.linkedSets'),
        also: $t('shell.linkUnlinkCrossList'),
      },
      { to: '/sections/lists', title: $t('shell.peopleLists'), also: 'groups' },
      { to: '/runs', part: true, title: $t('shell.runs'), also: $t('shell.readsSyncsHistory') },
      { to: '/batches', title: $t('shell.batches'), also: $t('shell.manyAtOnce') },
      { to: '/next-term', title: $t('common.nextTerm'), also: $t('shell.rolloverSuccessors') },
    ],
    besides: ['/pairings'],
  },
  {
    title: $t('shell.courses'),
    pages: [
      { to: '/outlines', title: $t('shell.outlines'), also: $t('shell.modulesActivitiesProgress') },
      { to: '/stage-plans', title: $t('shell.stagePlans'), also: $t('shell.stagesProgress') },
      { to: '/access', title: $t('shell.access'), also: $t('shell.offersPurchasesPlaces') },
    ],
  },
  {
    title: $t('shell.scores'),
    pages: [
      { to: '/scores', part: true, title: $t('shell.scores'), also: $t('shell.gradebooksAssignmentsMarks') },
    ],
  },
  {
    title: $t('common.people'),
    pages: [
      { to: '/people', part: true, title: $t('common.people'), also: $t('shell.learnersTeachersPersons') },
      { to: '/why', part: true, title: $t('shell.why'), also: $t('shell.whyAlso') },
      { to: '/people/duplicates', title: $t('shell.duplicates'), also: $t('shell.duplicatesAlso') },
    ],
  },
  {
    title: $t('shell.rules'),
    pages: [
      { to: '/rules', title: $t('shell.rules'), also: $t('shell.actionsConditions') },
      { to: '/events', part: true, title: $t('shell.events'), also: $t('shell.whatHappened') },
      {
        to: '/deliveries',
        part: true,
        title: $t('common.deliveries'),
        also: $t('shell.sentMessagesRetryGiveUp'),
      },
      { to: '/proofs', title: $t('shell.proofs'), also: $t('shell.proofsAlso') },
    ],
  },
  {
    title: $t('common.badges'),
    pages: [
      { to: '/awards', part: true, title: $t('common.badges'), also: $t('shell.awardsIssuersCredentials') },
      { to: '/issuers', title: $t('shell.issuers'), also: $t('shell.keysProfiles') },
      { to: '/check-badge', title: $t('shell.checkBadge'), also: $t('shell.verifyCredential') },
    ],
  },
  {
    title: $t('shell.reports'),
    pages: [
      { to: '/reports', title: $t('shell.reportsCompletion'), also: $t('shell.reportsAlso'), act: 'report' },
      { to: '/reports/stopped', title: $t('shell.reportsStopped'), act: 'report' },
      { to: '/reports/behind', title: $t('shell.reportsBehind'), act: 'report' },
      { to: '/reports/badges', title: $t('common.badges'), act: 'report' },
      { to: '/reports/holdings', title: $t('shell.reportsHoldings'), act: 'report' },
      { to: '/reports/rosters', title: $t('shell.reportsRosters'), act: 'report' },
      { to: '/reports/rules', title: $t('shell.rules'), act: 'report' },
      { to: '/reports/services', title: $t('shell.reportsServices'), act: 'report' },
      { to: '/reports/scores', title: $t('shell.scores'), act: 'report' },
      { to: '/report-mails', title: $t('shell.reportsMails'), act: 'look' },
    ],
  },
  {
    title: $t('shell.connections'),
    pages: [
      {
        to: '/connections',
        title: $t('shell.connections'),
        also: $t('shell.interfacesRegistersServicesPlatforms'),
      },
    ],
    besides: ['/interfaces'],
  },
  {
    title: $t('shell.settings'),
    pages: [
      { to: '/settings', title: $t('shell.settings'), also: $t('shell.templatesNamesTokensPauseHistory') },
      {
        to: '/settings/users',
        title: $t('shell.users'),
        also: $t('shell.usersAlso'),
        act: 'users',
      },
      { to: '/settings/sign-in', title: $t('shell.signIn'), also: $t('shell.signInAlso'), act: 'users' },
      { to: '/settings/audit', title: $t('shell.audit'), also: $t('shell.auditAlso'), act: 'users' },
      {
        to: '/settings/set-up',
        title: $t('shell.setUpFiles'),
        also: $t('shell.exportImportConfiguration'),
      },
    ],
  },
  {
    title: $t('shell.account'),
    aside: true,
    pages: [
      { to: '/mine', title: $t('shell.mine'), act: 'mine', part: true },
      { to: '/account', title: $t('shell.account'), also: $t('shell.accountAlso'), act: 'own', part: true },
    ],
  },
]

/** The areas with those of their pages that somebody may see, by what they may do somewhere and in the whole
 * institution. */
export const seenBy = (may: (act: string) => boolean, mayAll = may): Area[] =>
  areas
    .map((a) => ({ ...a, pages: a.pages.filter((p) => (p.part ? may : mayAll)(p.act ?? 'look')) }))
    .filter((a) => a.pages.length)

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
