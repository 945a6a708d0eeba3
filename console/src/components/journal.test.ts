import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import type { Schemas } from '../api/client'
import JournalTable from './JournalTable.vue'

describe('the journal of a rotation', () => {
  const line = { seq: 1, step: 0, time: '2026-11-28T03:00:00.000Z', event: 'begun', title: 'prepare' } as Schemas['JournalRecord']
  it.each([
    ['nothing was done', { journal: [] }, 'Nothing was written yet.'],
    ['steps were done and no line has come', { journal: [], begun: true }, 'The journal is being read.'],
    ['the chosen step has none', { journal: [line], begun: true, step: 4 }, 'Nothing was written yet.'],
  ])('is empty when %s', (_, props, words) => {
    expect(mount(JournalTable, { props }).text()).toContain(words)
  })
})
