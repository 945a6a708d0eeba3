// It must not import what makes the client of the API: setup.ts comes before that.

/** A request that a component made. */
export interface Asked {
  method: string
  path: string
  query: URLSearchParams
  headers: Headers
  body: unknown
}

/** What is answered: an object, or what a function makes of the request. */
type Answer = unknown

/** An answer that is a refusal, in the service's words. */
export class Refusal {
  constructor(
    readonly status: number,
    readonly detail: string,
    readonly more: string[] = [],
  ) {}
}

let answers: Record<string, Answer> = {}
let log: Asked[] = []
let away = false

/** Answers in the service's place from now on, and what was asked of it. */
export function serve(routes: Record<string, Answer>): {
  asked: Asked[]
  /** What was asked for that changes something. */
  sent: () => Asked[]
  answer: (route: string, answer: Answer) => void
  leave: () => void
} {
  answers = { ...routes }
  log = []
  away = false
  return {
    asked: log,
    sent: () => log.filter((a) => a.method !== 'GET'),
    answer: (route, answer) => {
      answers[route] = answer
    },
    leave: () => {
      away = true
    },
  }
}

/** Stands in for fetch; see setup.ts. */
export async function fetchFromService(input: RequestInfo | URL, init?: RequestInit): Promise<Response> {
  const request = new Request(input instanceof Request ? input : new URL(String(input), 'http://moss.example'), init)
  const url = new URL(request.url)
  const text = await request.text()
  const asked: Asked = {
    method: request.method,
    path: url.pathname,
    query: url.searchParams,
    headers: request.headers,
    body: text ? JSON.parse(text) : undefined,
  }
  log.push(asked)
  if (away) throw new TypeError('Failed to fetch')
  const key = `${asked.method} ${asked.path.replace('/api/v1', '')}`
  if (!(key in answers)) throw new Error(`nothing was said about ${key}`)
  const answer = answers[key]
  const made: unknown = typeof answer === 'function' ? await (answer as (asked: Asked) => unknown)(asked) : answer
  if (made instanceof Refusal) {
    const model = { status: made.status, title: 'Refused', detail: made.detail, errors: made.more.map((message) => ({ message })) }
    return new Response(JSON.stringify(model), { status: made.status, headers: { 'Content-Type': 'application/problem+json' } })
  }
  return new Response(JSON.stringify(made), { status: 200, headers: { 'Content-Type': 'application/json' } })
}
