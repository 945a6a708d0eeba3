import { createRouter, createWebHistory } from 'vue-router'
import { useSession } from './state/session'

/** A new page: a component in pages/, a line here, and one in App.vue's menu. */
export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/sign-in', name: 'sign-in', component: () => import('./pages/SignIn.vue'), meta: { title: 'Sign in' } },
    { path: '/', name: 'overview', component: () => import('./pages/Overview.vue'), meta: { title: 'Overview' } },
    { path: '/systems', name: 'systems', component: () => import('./pages/Systems.vue'), meta: { title: 'Systems' } },
    { path: '/systems/:name', name: 'system', component: () => import('./pages/SystemPage.vue'), meta: { title: 'System' } },
    { path: '/accounts', name: 'accounts', component: () => import('./pages/Accounts.vue'), meta: { title: 'Accounts' } },
    { path: '/accounts/:id(\\d+)', name: 'account', component: () => import('./pages/AccountPage.vue'), meta: { title: 'Account' } },
    {
      path: '/accounts/:id(\\d+)/radius',
      name: 'radius',
      component: () => import('./pages/RadiusPage.vue'),
      meta: { title: 'What would be touched' },
    },
    { path: '/credentials', name: 'credentials', component: () => import('./pages/Credentials.vue'), meta: { title: 'Credentials' } },
    {
      path: '/credentials/:id(\\d+)',
      name: 'credential',
      component: () => import('./pages/CredentialPage.vue'),
      meta: { title: 'Credential' },
    },
    { path: '/dependents', name: 'dependents', component: () => import('./pages/Dependents.vue'), meta: { title: 'Dependents' } },
    {
      path: '/dependents/print',
      name: 'print',
      component: () => import('./pages/PrintPage.vue'),
      meta: { title: 'Dependents', bare: true },
    },
    {
      path: '/dependents/:id(\\d+)',
      name: 'dependent',
      component: () => import('./pages/DependentPage.vue'),
      meta: { title: 'Dependent' },
    },
    { path: '/surveys', name: 'surveys', component: () => import('./pages/Surveys.vue'), meta: { title: 'Surveys' } },
    { path: '/surveys/:id(\\d+)', name: 'survey', component: () => import('./pages/SurveyPage.vue'), meta: { title: 'Survey' } },
    { path: '/rotations', name: 'rotations', component: () => import('./pages/Rotations.vue'), meta: { title: 'Rotations' } },
    { path: '/rotations/:id(\\d+)', name: 'rotation', component: () => import('./pages/RotationPage.vue'), meta: { title: 'Rotation' } },
    { path: '/findings', name: 'findings', component: () => import('./pages/Findings.vue'), meta: { title: 'Findings' } },
    { path: '/approvals', name: 'approvals', component: () => import('./pages/Approvals.vue'), meta: { title: 'Approvals' } },
    { path: '/yourself', name: 'yourself', component: () => import('./pages/Yourself.vue'), meta: { title: 'Yourself' } },
    { path: '/ledger', name: 'ledger', component: () => import('./pages/Ledger.vue'), meta: { title: 'Ledger' } },
    { path: '/:rest(.*)*', name: 'missing', component: () => import('./pages/Missing.vue'), meta: { title: 'Not found' } },
  ],
})

router.beforeEach(async (to) => {
  const session = useSession()
  if (!session.me) await session.load().catch(() => undefined)
  if (to.name === 'sign-in') return session.me ? { name: 'overview' } : true
  return session.me ? true : { name: 'sign-in', query: to.path === '/' ? {} : { then: to.fullPath } }
})

router.afterEach((to) => {
  document.title = `${String(to.meta.title ?? '')} · Moss Ledger`
})
