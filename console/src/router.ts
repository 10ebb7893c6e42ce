import { createRouter, createWebHistory } from 'vue-router'

import { api } from './api/client'
import { mayLeave } from './parts/form/typed'

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
    { path: '/', redirect: '/board' },
    {
      path: '/sign-in',
      component: () => import('./pages/enter/SignIn.vue'),
      meta: { open: true, title: 'Sign in' },
    },
    {
      path: '/setup',
      component: () => import('./pages/enter/SetUp.vue'),
      meta: { open: true, title: 'Set up' },
    },
    { path: '/board', component: () => import('./pages/board/Board.vue'), meta: { title: 'Board' } },
    {
      path: '/sections',
      component: () => import('./pages/sections/Sections.vue'),
      meta: { title: 'Sections' },
    },
    {
      path: '/sections/linked',
      component: () => import('./pages/sections/Sets.vue'),
      meta: { title: 'Linked sets' },
    },
    {
      path: '/sections/lists',
      component: () => import('./pages/sections/Lists.vue'),
      meta: { title: 'People lists' },
    },
    {
      path: '/sections/:id/roster',
      component: () => import('./pages/sections/Roster.vue'),
      props: true,
      meta: { title: 'Who is in a section' },
    },
    {
      path: '/findings/catalogue',
      component: () => import('./pages/findings/Catalogue.vue'),
      meta: { title: 'Kinds of findings' },
    },
    {
      path: '/next-term',
      component: () => import('./pages/nextterm/NextTerm.vue'),
      meta: { title: 'Next term' },
    },
    {
      path: '/batches',
      component: () => import('./pages/batches/Batches.vue'),
      meta: { title: 'Batches' },
    },
    {
      path: '/batches/:id',
      component: () => import('./pages/batches/Batch.vue'),
      props: true,
      meta: { title: 'Batch' },
    },
    {
      path: '/settings',
      component: () => import('./pages/settings/Settings.vue'),
      meta: { title: 'Settings' },
    },
    {
      path: '/settings/set-up',
      component: () => import('./pages/settings/SetUpFiles.vue'),
      meta: { title: 'The set-up as files' },
    },
    {
      path: '/pairings/:id',
      component: () => import('./pages/pairings/Pairing.vue'),
      props: true,
      meta: { title: 'Pairing' },
    },
    {
      path: '/pairings/:id/compare',
      component: () => import('./pages/pairings/Compare.vue'),
      props: true,
      meta: { title: 'Compare' },
    },
    {
      path: '/findings',
      component: () => import('./pages/findings/Findings.vue'),
      meta: { title: 'Findings' },
    },
    {
      path: '/interfaces/:id/matching',
      component: () => import('./pages/connections/Matching.vue'),
      props: true,
      meta: { title: 'Who is who' },
    },
    {
      path: '/interfaces/:id/proposals',
      component: () => import('./pages/connections/Proposals.vue'),
      props: true,
      meta: { title: 'Second accounts and test learners' },
    },
    {
      path: '/interfaces/:id/unpaired',
      component: () => import('./pages/connections/Unpaired.vue'),
      props: true,
      meta: { title: 'Classes that belong to no pairing' },
    },
    { path: '/people', component: () => import('./pages/people/People.vue'), meta: { title: 'People' } },
    {
      path: '/people/:id',
      component: () => import('./pages/people/Person.vue'),
      props: true,
      meta: { title: 'Person' },
    },
    { path: '/runs', component: () => import('./pages/pairings/Runs.vue'), meta: { title: 'Runs' } },
    {
      path: '/runs/:id',
      component: () => import('./pages/pairings/Run.vue'),
      props: true,
      meta: { title: 'Run' },
    },
    {
      path: '/connections',
      component: () => import('./pages/connections/Connections.vue'),
      meta: { title: 'Connections' },
    },
    {
      path: '/connections/new',
      component: () => import('./pages/connections/NewConnection.vue'),
      meta: { title: 'Connect a system' },
    },
    {
      path: '/connections/:id',
      component: () => import('./pages/connections/Connection.vue'),
      props: true,
      meta: { title: 'Connection' },
    },
    { path: '/rules', component: () => import('./pages/rules/Rules.vue'), meta: { title: 'Rules' } },
    {
      path: '/rules/:id',
      component: () => import('./pages/rules/Rule.vue'),
      props: true,
      meta: { title: 'Rule' },
    },
    {
      path: '/deliveries',
      component: () => import('./pages/events/Search.vue'),
      meta: { title: 'Deliveries' },
    },
    {
      path: '/access/:id?',
      component: () => import('./pages/access/Access.vue'),
      props: true,
      meta: { title: 'Access' },
    },
    { path: '/tasks', component: () => import('./pages/tasks/Tasks.vue'), meta: { title: 'Tasks' } },
    {
      path: '/outlines/:id?',
      component: () => import('./pages/outlines/Outlines.vue'),
      props: true,
      meta: { title: 'Outlines' },
    },
    {
      path: '/interfaces/:id/meaning',
      component: () => import('./pages/connections/Meaning.vue'),
      props: true,
      meta: { title: 'What events mean' },
    },
    {
      path: '/interfaces/:id/operations',
      component: () => import('./pages/connections/Operations.vue'),
      props: true,
      meta: { title: 'Operations' },
    },
    {
      path: '/events/:id?',
      component: () => import('./pages/events/Events.vue'),
      props: true,
      meta: { title: 'Events' },
    },
    {
      path: '/stage-plans',
      component: () => import('./pages/stages/StagePlans.vue'),
      meta: { title: 'Stages' },
    },
    {
      path: '/stage-plans/:id',
      component: () => import('./pages/stages/StagePlan.vue'),
      props: true,
      meta: { title: 'Stages' },
    },
    { path: '/awards', component: () => import('./pages/badges/Badges.vue'), meta: { title: 'Badges' } },
    {
      path: '/:rest(.*)',
      component: () => import('./pages/enter/NotHere.vue'),
      meta: { open: true, title: 'Not here' },
    },
  ],
})

let known = false

/** Says that somebody signed in or out. */
export function entered(yes: boolean) {
  known = yes
}

router.beforeEach(async (to, from) => {
  if (to.path !== from.path && !(await mayLeave())) return false
  document.title = to.meta.title ? `${to.meta.title} · Kanban` : 'Kanban'
  if (to.meta.open || known) return true
  const { response } = await api.GET('/api/v1/session').catch(() => ({ response: undefined }))
  if (!response || response.ok) {
    known = true
    return true
  }
  return { path: '/sign-in', query: { then: to.fullPath } }
})
