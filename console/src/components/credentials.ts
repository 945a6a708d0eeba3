import { api, data } from '../api/client'
import { t } from '../texts'

/** The number of an account's password as a credential; it is noted when nobody did before. */
export async function passwordOf(account: number): Promise<number> {
  const v = await data(api.POST('/api/v1/credentials', { body: { kind: 'password', account } }))
  return v.credential.id
}

export const kindsOfCredential = ['password', 'ssh-key', 'cloud-key', 'token', 'api-key', 'certificate', 'key-tab']

/** A pair of keys, which may stand in several files and be accepted at several places. */
export const isPair = (kind: string | undefined): boolean => kind === 'ssh-key' || kind === 'cloud-key' || kind === 'certificate'

/** Kinds of credential as people say them. */
export function kindName(kind: string): string {
  return kindsOfCredential.includes(kind) ? t(`credentials.kinds.${kind}`) : kind
}
