import { flushPromises, mount, type VueWrapper } from '@vue/test-utils'
import { createPinia, setActivePinia, type Pinia } from 'pinia'
import type { Component } from 'vue'
import { createMemoryHistory, createRouter, type Router } from 'vue-router'
import { useSession } from '../state/session'

export interface Shown {
  page: VueWrapper
  router: Router
  /** Everything that can be read on it. */
  read: () => string
  /** The button that is called so. */
  button: (name: string) => { press: () => Promise<void>; there: boolean; off: boolean }
  /** The field that is labelled so. */
  field: (label: string) => { fill: (value: string) => Promise<void>; value: () => string; there: boolean }
}

/** Shows a component to somebody with roles, at an address. */
export async function show(
  component: Component,
  options: { props?: Record<string, unknown>; roles?: string[]; at?: string; slots?: Record<string, string> } = {},
): Promise<Shown> {
  const pinia: Pinia = createPinia()
  setActivePinia(pinia)
  useSession().me = { name: 'ines', roles: options.roles ?? ['viewer', 'operator', 'approver', 'administrator'] }
  const router = createRouter({ history: createMemoryHistory(), routes: [{ path: '/:rest(.*)*', component: { template: '<i/>' } }] })
  await router.push(options.at ?? '/')
  await router.isReady()
  const page = mount(component as never, {
    props: options.props as never,
    slots: options.slots,
    global: { plugins: [pinia, router] },
    attachTo: document.body,
  }) as unknown as VueWrapper
  await flushPromises()
  const read = () => page.text().replace(/\s+/g, ' ')
  return {
    page,
    router,
    read,
    button: (name) => {
      const found = page.findAll('button').find((b) => (b.attributes('aria-label') ?? b.text()).trim() === name || b.text().trim() === name)
      return {
        there: !!found,
        off: found?.attributes('disabled') !== undefined,
        press: async () => {
          if (!found)
            throw new Error(
              `there is no button "${name}" among: ${page
                .findAll('button')
                .map((b) => b.text())
                .join(', ')}`,
            )
          await found.trigger('click')
          await flushPromises()
        },
      }
    },
    field: (label) => {
      const byAria = page
        .findAll('input, select, textarea')
        .find((e) => e.attributes('aria-label') === label || e.attributes('placeholder') === label)
      const around = page.findAll('label').find((l) => l.text().startsWith(label))
      const found = byAria ?? around?.findAll('input, select, textarea')[0]
      return {
        there: !!found,
        value: () => (found!.element as HTMLInputElement).value,
        fill: async (value) => {
          if (!found) throw new Error(`there is no field "${label}"`)
          await found.setValue(value)
          await flushPromises()
        },
      }
    },
  }
}
