import { defineStore } from 'pinia'
import { ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { startChanges, stopChanges } from '../api/changes'

/** Who is signed in. */
export const useSession = defineStore('session', () => {
  const me = ref<Schemas['Me']>()
  const setUp = ref(true)

  async function load(): Promise<void> {
    setUp.value = (await data(api.GET('/api/v1/status'))).set_up
    if (!setUp.value) return
    try {
      me.value = await data(api.GET('/api/v1/me'))
      startChanges()
    } catch {
      me.value = undefined
    }
  }

  async function signIn(name: string, password: string): Promise<void> {
    me.value = await data(api.POST('/api/v1/sessions', { body: { name, password } }))
    startChanges()
  }

  async function makeFirst(code: string, name: string, password: string): Promise<void> {
    me.value = await data(api.POST('/api/v1/setup', { body: { code, name, password } }))
    setUp.value = true
    startChanges()
  }

  async function signOut(): Promise<void> {
    stopChanges()
    await data(api.DELETE('/api/v1/sessions/current')).catch(() => undefined)
    me.value = undefined
  }

  function may(role: string): boolean {
    return me.value?.roles.includes(role) ?? false
  }

  return { me, setUp, load, signIn, makeFirst, signOut, may }
})
