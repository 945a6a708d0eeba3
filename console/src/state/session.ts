import { defineStore } from 'pinia'
import { reactive, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { startChanges, stopChanges } from '../api/changes'

/** Who is signed in, and what they have set for themselves. */
export const useSession = defineStore('session', () => {
  const me = ref<Schemas['Me']>()
  const setUp = ref(true)
  const settings = reactive<Record<string, unknown>>({})
  const late = new Map<string, number>()

  async function load(): Promise<void> {
    setUp.value = (await data(api.GET('/api/v1/status'))).set_up
    if (!setUp.value) return
    try {
      await enter(await data(api.GET('/api/v1/me')))
    } catch {
      me.value = undefined
    }
  }

  // Without their settings people still can work: the page is as it comes.
  async function enter(who: Schemas['Me']): Promise<void> {
    const kept = await data(api.GET('/api/v1/me/settings')).catch(() => ({}))
    for (const name of Object.keys(settings)) delete settings[name]
    Object.assign(settings, kept)
    me.value = who
    startChanges()
  }

  async function signIn(name: string, password: string): Promise<void> {
    await enter(await data(api.POST('/api/v1/sessions', { body: { name, password } })))
  }

  async function makeFirst(code: string, name: string, password: string): Promise<void> {
    const who = await data(api.POST('/api/v1/setup', { body: { code, name, password } }))
    setUp.value = true
    await enter(who)
  }

  async function signOut(): Promise<void> {
    stopChanges()
    await data(api.DELETE('/api/v1/sessions/current')).catch(() => undefined)
    me.value = undefined
  }

  function may(role: string): boolean {
    return me.value?.roles.includes(role) ?? false
  }

  /** Keeps a setting of this person; several changes at once are one request. */
  function keep(name: string, value: unknown): void {
    settings[name] = value
    window.clearTimeout(late.get(name))
    late.set(
      name,
      window.setTimeout(() => {
        const body = { value: settings[name] as never }
        void data(api.PUT('/api/v1/me/settings/{name}', { params: { path: { name } }, body })).catch(() => undefined)
      }, 400),
    )
  }

  return { me, setUp, settings, load, signIn, makeFirst, signOut, may, keep }
})
