import { createRouter, createWebHistory } from 'vue-router'

import { api } from './api/client'
import { mayLeave } from './parts/form/typed'
import { acts, actsAll, home, may, me } from './shell/may'
import { $t } from './texts'

declare module 'vue-router' {
  interface RouteMeta {
    /** Can be opened by anybody. */
    open?: boolean
    title?: string
  }
}

export const router = createRouter({
  history: createWebHistory(),
  scrollBehavior: (to, from, saved) => saved ?? (to.path === from.path ? false : { top: 0 }),
  routes: [
    // Whoever comes is led to the page on which they begin.
    { path: '/', component: () => import('./pages/board/Board.vue') },
    {
      path: '/sign-in',
      component: () => import('./pages/enter/SignIn.vue'),
      meta: { open: true, title: $t('shell.signIn') },
    },
    {
      path: '/setup',
      component: () => import('./pages/enter/SetUp.vue'),
      meta: { open: true, title: $t('common.setUp') },
    },
    {
      path: '/invitation',
      component: () => import('./pages/enter/Invitation.vue'),
      meta: { open: true, title: $t('shell.invitation') },
    },
    {
      path: '/board',
      component: () => import('./pages/board/Board.vue'),
      meta: { title: $t('shell.board') },
    },
    {
      path: '/sections',
      component: () => import('./pages/sections/Sections.vue'),
      meta: { title: $t('common.sections') },
    },
    {
      path: '/sections/linked',
      component: () => import('./pages/sections/Sets.vue'),
      meta: { title: $t('common.linkedSets') },
    },
    {
      path: '/sections/lists',
      component: () => import('./pages/sections/Lists.vue'),
      meta: { title: $t('shell.peopleLists') },
    },
    {
      path: '/sections/:id/roster',
      component: () => import('./pages/sections/Roster.vue'),
      props: true,
      meta: { title: $t('shell.whoIsInSection') },
    },
    {
      path: '/findings/catalogue',
      component: () => import('./pages/findings/Catalogue.vue'),
      meta: { title: $t('shell.kindsOfFindings') },
    },
    {
      path: '/next-term',
      component: () => import('./pages/nextterm/NextTerm.vue'),
      meta: { title: $t('common.nextTerm') },
    },
    {
      path: '/batches',
      component: () => import('./pages/batches/Batches.vue'),
      meta: { title: $t('shell.batches') },
    },
    {
      path: '/batches/:id',
      component: () => import('./pages/batches/Batch.vue'),
      props: true,
      meta: { title: $t('shell.batch') },
    },
    {
      path: '/settings',
      component: () => import('./pages/settings/Settings.vue'),
      meta: { title: $t('shell.settings') },
    },
    {
      path: '/settings/users',
      component: () => import('./pages/settings/Users.vue'),
      meta: { title: $t('shell.users') },
    },
    {
      path: '/settings/sign-in',
      component: () => import('./pages/settings/SignInSettings.vue'),
      meta: { title: $t('shell.signIn') },
    },
    {
      path: '/settings/audit',
      component: () => import('./pages/settings/Audit.vue'),
      meta: { title: $t('shell.audit') },
    },
    {
      path: '/settings/set-up',
      component: () => import('./pages/settings/SetUpFiles.vue'),
      meta: { title: $t('shell.setUpAsFiles') },
    },
    {
      path: '/pairings/:id',
      component: () => import('./pages/pairings/Pairing.vue'),
      props: true,
      meta: { title: $t('shell.pairing') },
    },
    {
      path: '/pairings/:id/compare',
      component: () => import('./pages/pairings/Compare.vue'),
      props: true,
      meta: { title: $t('shell.compare') },
    },
    {
      path: '/findings',
      component: () => import('./pages/findings/Findings.vue'),
      meta: { title: $t('shell.findings') },
    },
    {
      path: '/interfaces/:id/matching',
      component: () => import('./pages/connections/Matching.vue'),
      props: true,
      meta: { title: $t('shell.whoIsWho') },
    },
    {
      path: '/interfaces/:id/proposals',
      component: () => import('./pages/connections/Proposals.vue'),
      props: true,
      meta: { title: $t('shell.secondAccountsAndTestLearners') },
    },
    {
      path: '/interfaces/:id/courses',
      component: () => import('./pages/connections/CoursePages.vue'),
      props: true,
      meta: { title: $t('shell.coursePages') },
    },
    {
      path: '/course-pages/:id',
      component: () => import('./pages/connections/Openings.vue'),
      props: true,
      meta: { title: $t('shell.whoOpenedCoursePage') },
    },
    {
      path: '/interfaces/:id/unpaired',
      component: () => import('./pages/connections/Unpaired.vue'),
      props: true,
      meta: { title: $t('shell.classesThatBelongToNo') },
    },
    {
      path: '/people',
      component: () => import('./pages/people/People.vue'),
      meta: { title: $t('common.people') },
    },
    {
      path: '/people/duplicates',
      component: () => import('./pages/people/Duplicates.vue'),
      meta: { title: $t('shell.duplicates') },
    },
    {
      path: '/why',
      component: () => import('./pages/people/Why.vue'),
      meta: { title: $t('shell.why') },
    },
    {
      path: '/people/:id',
      component: () => import('./pages/people/Person.vue'),
      props: true,
      meta: { title: $t('common.person') },
    },
    {
      path: '/account',
      component: () => import('./pages/mine/Account.vue'),
      meta: { title: $t('shell.account') },
    },
    {
      path: '/device',
      component: () => import('./pages/enter/Device.vue'),
      meta: { title: $t('shell.letProgramIn') },
    },
    {
      path: '/mine',
      component: () => import('./pages/mine/Mine.vue'),
      meta: { title: $t('shell.mine') },
    },
    {
      path: '/teaching',
      component: () => import('./pages/teaching/Teaching.vue'),
      meta: { title: $t('teaching.mySections') },
    },
    {
      path: '/teaching/:id',
      component: () => import('./pages/teaching/OneSection.vue'),
      props: true,
      meta: { title: $t('teaching.mySections') },
    },
    {
      path: '/runs',
      component: () => import('./pages/pairings/Runs.vue'),
      meta: { title: $t('shell.runs') },
    },
    {
      path: '/runs/:id',
      component: () => import('./pages/pairings/Run.vue'),
      props: true,
      meta: { title: $t('shell.run') },
    },
    {
      path: '/connections',
      component: () => import('./pages/connections/Connections.vue'),
      meta: { title: $t('shell.connections') },
    },
    {
      path: '/connections/new',
      component: () => import('./pages/connections/NewConnection.vue'),
      meta: { title: $t('common.connectSystem') },
    },
    {
      path: '/connections/:id',
      component: () => import('./pages/connections/Connection.vue'),
      props: true,
      meta: { title: $t('shell.connection') },
    },
    {
      path: '/rules',
      component: () => import('./pages/rules/Rules.vue'),
      meta: { title: $t('shell.rules') },
    },
    {
      path: '/rules/:id',
      component: () => import('./pages/rules/Rule.vue'),
      props: true,
      meta: { title: $t('common.rule') },
    },
    {
      path: '/deliveries',
      component: () => import('./pages/events/Search.vue'),
      meta: { title: $t('common.deliveries') },
    },
    {
      path: '/access/:id?',
      component: () => import('./pages/access/Access.vue'),
      props: true,
      meta: { title: $t('shell.access') },
    },
    {
      path: '/tasks',
      component: () => import('./pages/tasks/Tasks.vue'),
      meta: { title: $t('shell.tasks') },
    },
    {
      path: '/outlines/:id?',
      component: () => import('./pages/outlines/Outlines.vue'),
      props: true,
      meta: { title: $t('shell.outlines') },
    },
    {
      path: '/interfaces/:id/meaning',
      component: () => import('./pages/connections/Meaning.vue'),
      props: true,
      meta: { title: $t('shell.whatEventsMean') },
    },
    {
      path: '/interfaces/:id/operations',
      component: () => import('./pages/connections/Operations.vue'),
      props: true,
      meta: { title: $t('shell.operations') },
    },
    {
      path: '/events/:id?',
      component: () => import('./pages/events/Events.vue'),
      props: true,
      meta: { title: $t('shell.events') },
    },
    {
      path: '/stage-plans',
      component: () => import('./pages/stages/StagePlans.vue'),
      meta: { title: $t('shell.stages') },
    },
    {
      path: '/stage-plans/:id',
      component: () => import('./pages/stages/StagePlan.vue'),
      props: true,
      meta: { title: $t('shell.stages') },
    },
    {
      path: '/scores',
      component: () => import('./pages/scores/ScoreLinks.vue'),
      meta: { title: $t('shell.scores') },
    },
    {
      path: '/scores/templates',
      component: () => import('./pages/scores/ScoreTemplates.vue'),
      meta: { title: $t('shell.scoreTemplates') },
    },
    {
      path: '/scores/:id',
      component: () => import('./pages/scores/ScoreLink.vue'),
      props: true,
      meta: { title: $t('shell.scores') },
    },
    {
      path: '/awards',
      component: () => import('./pages/badges/Badges.vue'),
      meta: { title: $t('common.badges') },
    },
    {
      path: '/issuers',
      component: () => import('./pages/badges/Issuers.vue'),
      meta: { title: $t('shell.issuers') },
    },
    {
      path: '/check-badge',
      component: () => import('./pages/badges/CheckBadge.vue'),
      meta: { title: $t('shell.checkBadge') },
    },
    {
      path: '/proofs',
      component: () => import('./pages/proofs/Proofs.vue'),
      meta: { title: $t('shell.proofs') },
    },
    {
      path: '/proofs/:id',
      component: () => import('./pages/proofs/Proof.vue'),
      props: true,
      meta: { title: $t('shell.proofs') },
    },
    {
      path: '/report-mails',
      component: () => import('./pages/reports/ReportMails.vue'),
      meta: { title: $t('shell.reportsMails') },
    },
    {
      path: '/reports/:name?',
      component: () => import('./pages/reports/Reports.vue'),
      props: true,
      meta: { title: $t('shell.reports') },
    },
    {
      path: '/:rest(.*)',
      component: () => import('./pages/enter/NotHere.vue'),
      meta: { open: true, title: $t('shell.notHere') },
    },
  ],
})

let known = false
/** Whether they have to set up one-time codes before anything else. */
let codesNeeded = false

/** Says that somebody signed in or out. */
export function entered(yes: boolean) {
  known = yes
  acts.value = undefined
  actsAll.value = undefined
  me.value = undefined
}

router.beforeEach(async (to, from) => {
  if (to.path !== from.path && !(await mayLeave())) return false
  document.title = to.meta.title ? `${to.meta.title} · Kanban` : 'Kanban'
  if (to.meta.open) return true
  if (!known || !acts.value) {
    const { response, data } = await api
      .GET('/api/v1/session')
      .catch(() => ({ response: undefined, data: undefined }))
    // Who looks as somebody else does has nothing of their own meanwhile.
    acts.value = data && [
      ...data.may.filter((a) => !data.viewing || a !== 'own'),
      ...(data.personId ? ['mine'] : []),
      ...(data.roles.includes('teacher') ? ['teach'] : []),
    ]
    actsAll.value = data?.mayAll
    me.value = data
    codesNeeded = !!data?.codesNeeded
    known = !response || response.ok
  }
  if (known && codesNeeded) return to.path === '/account' ? true : '/account'
  if (known && acts.value && to.path === '/') return home()
  if (
    known &&
    acts.value &&
    !may('look') &&
    !to.path.startsWith(home()) &&
    to.path !== '/mine' &&
    to.path !== '/account' &&
    to.path !== '/device'
  )
    return home()
  if (known) return true
  return { path: '/sign-in', query: { then: to.fullPath } }
})
