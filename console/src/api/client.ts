import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

export type Schemas = components['schemas']

/** The API, typed from its own description. */
export const api = createClient<paths>({
  baseUrl: '/',
  headers: { 'X-Moss-Console': '1' },
})

/** An error answer in words (RFC 9457). */
export class Problem extends Error {
  constructor(
    message: string,
    readonly status: number,
  ) {
    super(message)
  }
}

interface Answer<T> {
  data?: T
  error?: unknown
  response: Response
}

/** The data of an answer, or a Problem with the service's own words. */
export async function data<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await call
  } catch {
    throw new Problem('The service does not answer. Is it running?', 0)
  }
  if (answer.response.ok) return answer.data as T
  const model = answer.error as { detail?: string; title?: string; errors?: { message?: string }[] } | undefined
  const more = (model?.errors ?? []).map((e) => e.message).join('; ')
  const words = [model?.detail ?? model?.title ?? answer.response.statusText, more].filter(Boolean).join(': ')
  if (answer.response.status === 401) window.dispatchEvent(new Event('moss-signed-out'))
  throw new Problem(words, answer.response.status)
}

/** What every list takes. */
export interface ListQuery {
  filter?: string[]
  sort?: string
  limit?: number
  cursor?: string
  search?: string
}

export interface Page<T> {
  items: T[]
  next?: string
  total: number
  more?: boolean
}
