import { api, data } from '../api/client'

/** The number of an account's password as a credential; it is noted when nobody did before. */
export async function passwordOf(account: number): Promise<number> {
  const v = await data(api.POST('/api/v1/credentials', { body: { kind: 'password', account } }))
  return v.credential.id
}

/** Kinds of credential as people say them. */
export const kindNames: Record<string, string> = {
  password: 'password',
  'ssh-key': 'SSH key',
  token: 'token',
  'api-key': 'API key',
  certificate: 'certificate',
  'key-tab': 'key tab',
}
