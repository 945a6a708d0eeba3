import type { Schemas } from '../api/client'

/** How a batch's state is told: an end with failures is none that is good. */
export function batchTone(b: Schemas['Batch']): string {
  switch (b.state) {
    case 'done':
      return b.failed + b.blocked > 0 ? 'done-with-failures' : 'done'
    case 'stopped':
      return 'mode-stopped'
    case 'rehearsed':
      return b.blocked > 0 ? 'mode-stopped' : 'plain'
    default:
      return 'mode-running'
  }
}

const tones: Record<Schemas['BatchItem']['state'], string> = {
  waiting: 'plain',
  ready: 'passed',
  blocked: 'failed',
  rotating: 'mode-running',
  done: 'done',
  failed: 'failed',
}

export const itemTone = (i: Schemas['BatchItem']): string => tones[i.state]
