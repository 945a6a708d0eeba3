import { createRouter, createWebHistory } from 'vue-router'
import { useSession } from './state/session'
import { t } from './texts'

/** A new page: a component in pages/, a line here, and one in frame/places.ts. Titles are texts titles.<name>. */
export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/sign-in', name: 'sign-in', component: () => import('./pages/SignIn.vue') },
    { path: '/', name: 'overview', component: () => import('./pages/Overview.vue') },
    { path: '/systems', name: 'systems', component: () => import('./pages/Systems.vue') },
    { path: '/systems/:name', name: 'system', component: () => import('./pages/SystemPage.vue') },
    { path: '/accounts', name: 'accounts', component: () => import('./pages/Accounts.vue') },
    { path: '/accounts/:id(\\d+)', name: 'account', component: () => import('./pages/AccountPage.vue') },
    {
      path: '/accounts/:id(\\d+)/radius',
      name: 'radius',
      component: () => import('./pages/RadiusPage.vue'),
    },
    { path: '/credentials', name: 'credentials', component: () => import('./pages/Credentials.vue') },
    {
      path: '/credentials/:id(\\d+)',
      name: 'credential',
      component: () => import('./pages/CredentialPage.vue'),
    },
    { path: '/managed', name: 'managed', component: () => import('./pages/Managed.vue') },
    { path: '/dependents', name: 'dependents', component: () => import('./pages/Dependents.vue') },
    {
      path: '/dependents/print',
      name: 'print',
      component: () => import('./pages/PrintPage.vue'),
      meta: { bare: true },
    },
    {
      path: '/dependents/:id(\\d+)',
      name: 'dependent',
      component: () => import('./pages/DependentPage.vue'),
    },
    { path: '/rights', name: 'rights', component: () => import('./pages/Rights.vue') },
    { path: '/probes', name: 'probes', component: () => import('./pages/Probes.vue') },
    { path: '/expiry', name: 'expiry', component: () => import('./pages/Expiry.vue') },
    { path: '/outlived', name: 'outlived', component: () => import('./pages/Outlived.vue') },
    { path: '/risks', name: 'risks', component: () => import('./pages/Risks.vue') },
    { path: '/charters', name: 'charters', component: () => import('./pages/Charters.vue') },
    { path: '/charters/:name', name: 'charter', component: () => import('./pages/CharterPage.vue') },
    { path: '/surveys', name: 'surveys', component: () => import('./pages/Surveys.vue') },
    { path: '/surveys/:id(\\d+)', name: 'survey', component: () => import('./pages/SurveyPage.vue') },
    { path: '/changes', name: 'changes', component: () => import('./pages/Changes.vue') },
    { path: '/rotations', name: 'rotations', component: () => import('./pages/Rotations.vue') },
    { path: '/rotations/:id(\\d+)', name: 'rotation', component: () => import('./pages/RotationPage.vue') },
    { path: '/batches', name: 'batches', component: () => import('./pages/Batches.vue') },
    { path: '/batches/:id(\\d+)', name: 'batch', component: () => import('./pages/BatchPage.vue') },
    { path: '/findings', name: 'findings', component: () => import('./pages/Findings.vue') },
    { path: '/approvals', name: 'approvals', component: () => import('./pages/Approvals.vue') },
    { path: '/connections', name: 'connections', component: () => import('./pages/Connections.vue') },
    { path: '/policies', name: 'policies', component: () => import('./pages/Policies.vue') },
    { path: '/windows', name: 'windows', component: () => import('./pages/Windows.vue') },
    { path: '/messages', name: 'messages', component: () => import('./pages/Messages.vue') },
    { path: '/requirements', name: 'requirements', component: () => import('./pages/Requirements.vue') },
    { path: '/tandems', name: 'tandems', component: () => import('./pages/Tandems.vue') },
    { path: '/orders', name: 'orders', component: () => import('./pages/Orders.vue') },
    { path: '/schedule', name: 'schedule', component: () => import('./pages/Schedule.vue') },
    { path: '/people', name: 'people', component: () => import('./pages/People.vue') },
    { path: '/stewards', name: 'stewards', component: () => import('./pages/Stewards.vue') },
    { path: '/tokens', name: 'tokens', component: () => import('./pages/Tokens.vue') },
    { path: '/sessions', name: 'sessions', component: () => import('./pages/Sessions.vue') },
    { path: '/rules', name: 'rules', component: () => import('./pages/Rules.vue') },
    { path: '/options', name: 'options', component: () => import('./pages/Options.vue') },
    { path: '/start', name: 'start', component: () => import('./pages/Start.vue') },
    { path: '/yourself', name: 'yourself', component: () => import('./pages/Yourself.vue') },
    { path: '/traces', name: 'traces', component: () => import('./pages/Traces.vue') },
    { path: '/traces/:id(\\d+)', name: 'trace', component: () => import('./pages/TracePage.vue') },
    { path: '/amendments', name: 'amendments', component: () => import('./pages/Amendments.vue') },
    { path: '/amendments/:id(\\d+)', name: 'amendment', component: () => import('./pages/AmendmentPage.vue') },
    { path: '/ledger', name: 'ledger', component: () => import('./pages/Ledger.vue') },
    { path: '/:rest(.*)*', name: 'missing', component: () => import('./pages/Missing.vue') },
  ],
})

router.beforeEach(async (to) => {
  const session = useSession()
  if (!session.me) await session.load().catch(() => undefined)
  if (to.name === 'sign-in') return session.me ? { name: 'overview' } : true
  return session.me ? true : { name: 'sign-in', query: to.path === '/' ? {} : { then: to.fullPath } }
})

router.afterEach((to) => {
  // What a page is about comes first: many tabs are told apart by it.
  const about = String(to.params.name ?? to.params.id ?? '')
  document.title = [about, t(`titles.${String(to.name ?? 'missing')}`), 'Moss Ledger'].filter(Boolean).join(' · ')
})
