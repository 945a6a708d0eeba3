import { DOMWrapper, flushPromises, mount, type VueWrapper } from '@vue/test-utils'
import { createPinia, setActivePinia, type Pinia } from 'pinia'
import { vi } from 'vitest'
import type { Component, ComponentPublicInstance } from 'vue'
import { createMemoryHistory, createRouter, type Router } from 'vue-router'
import { useSession } from '../state/session'
import { texts } from '../texts'

export interface Shown {
  page: VueWrapper
  router: Router
  /** Everything that can be read on it, and on what lies over it. */
  read: () => string
  /** The button that is called so. */
  button: (name: string) => { press: () => Promise<void>; there: boolean; off: boolean }
  /** The field that is labelled so. */
  field: (label: string) => { fill: (value: string | number) => Promise<void>; value: () => string; there: boolean }
}

/** What the component library puts beside the page: dialogs, drawers, menus. */
const over = '.ant-modal-wrap, .ant-drawer, .ant-popover:not(.ant-popover-hidden), .ant-tooltip:not(.ant-tooltip-hidden)'

/** Shows a component to somebody with roles, at an address. */
export async function show(
  component: Component,
  options: { props?: Record<string, unknown>; roles?: string[]; at?: string; route?: string; slots?: Record<string, string> } = {},
): Promise<Shown> {
  const pinia: Pinia = createPinia()
  setActivePinia(pinia)
  useSession().me = { name: 'ines', roles: options.roles ?? ['viewer', 'operator', 'approver', 'administrator'] }
  const router = createRouter({
    history: createMemoryHistory(),
    routes: [{ path: options.route ?? '/:rest(.*)*', component: { template: '<i/>' } }],
  })
  await router.push(options.at ?? '/')
  await router.isReady()
  document.querySelectorAll(over).forEach((left) => left.remove())
  const page = mount(component as never, {
    props: options.props as never,
    slots: options.slots,
    global: { plugins: [pinia, router, texts] },
    attachTo: document.body,
  }) as unknown as VueWrapper
  await flushPromises()
  const parts = (): DOMWrapper<Element>[] => [
    ...[...document.querySelectorAll(over)].reverse().map((e) => new DOMWrapper(e)),
    new DOMWrapper(page.element.parentElement!),
  ]
  const all = (selector: string) => parts().flatMap((part) => part.findAll(selector))
  const read = () =>
    parts()
      .map((part) => part.text())
      .join(' ')
      .replace(/\s+/g, ' ')
  return {
    page,
    router,
    read,
    button: (name) => {
      const called = (b: DOMWrapper<Element>) =>
        (b.attributes('aria-label') ?? b.text()).trim() === name ||
        b.text().trim() === name ||
        b
          .text()
          .trim()
          .startsWith(name + ',')
      const found = all('button').find(called)
      return {
        there: !!found,
        off: found?.attributes('disabled') !== undefined,
        press: async () => {
          if (!found)
            throw new Error(
              `there is no button "${name}" among: ${all('button')
                .map((b) => b.text())
                .join(', ')}`,
            )
          await found.trigger('click')
          await flushPromises()
          await vi.dynamicImportSettled() // parts that are fetched when they are wanted
          await flushPromises()
        },
      }
    },
    field: (label) => {
      const byName = all('input, textarea').find((e) => e.attributes('aria-label') === label || e.attributes('placeholder') === label)
      const id = all('label')
        .find((l) => l.text().startsWith(label))
        ?.attributes('for')
      const select = (e: Element) =>
        page
          .findAllComponents({ name: 'ASelect' })
          .find((c) => (c.element as Element).contains(e) || (c.element as Element).getAttribute('aria-label') === label)
      const found =
        byName ?? (id ? all(`[id="${id}"]`)[0] : undefined) ?? all('.ant-select').find((e) => e.attributes('aria-label') === label)
      return {
        there: !!found,
        value: () => (found!.element as HTMLInputElement).value,
        fill: async (value) => {
          if (!found) throw new Error(`there is no field "${label}"`)
          const chooser = select(found.element)
          if (chooser) {
            const vm = chooser.vm as ComponentPublicInstance
            vm.$emit('update:value', value)
            vm.$emit('change', value)
          } else {
            await found.setValue(String(value))
            if (found.attributes('role') === 'spinbutton') await found.trigger('blur')
          }
          await flushPromises()
        },
      }
    },
  }
}
