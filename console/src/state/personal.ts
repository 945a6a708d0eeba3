import { customRef, type Ref } from 'vue'
import { useSession } from './session'

/**
 * What a person has set for themselves: columns, saved views, a folded menu. It
 * is kept by the service, so that it is there at another machine as well; see
 * the session, which reads it when somebody signs in.
 */
export function personal<T>(name: string, otherwise: T): Ref<T> {
  const session = useSession()
  return customRef(() => ({
    get: () => (session.settings[name] as T | undefined) ?? otherwise,
    set: (value) => void session.keep(name, value),
  }))
}
