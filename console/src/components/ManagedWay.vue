<script setup lang="ts">
import { Steps } from 'ant-design-vue'
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import '../texts/managed'

/** The way from a directory to an account that is in use: what of it is proven, what is missing, and which hosts wait for a restart. */
const props = defineProps<{ report: Schemas['ManagedReport']; dependents: number }>()
const of = (stage: string) => props.report.checks.filter((c) => c.about === stage)
/** A step stands as the worst of its lines does. */
const state = (stage: string): 'finish' | 'error' | 'process' | 'wait' => {
  const lines = of(stage)
  if (!lines.length) return 'wait'
  if (lines.some((c) => c.result === 'failed')) return 'error'
  return lines.every((c) => c.result === 'ok') ? 'finish' : 'process'
}
const hosts = computed(() => of('learned').length)
const waiting = computed(() => [
  ...new Set(
    of('learned')
      .filter((c) => c.result === 'failed')
      .map((c) => c.what.replace(/ knows .*/, '')),
  ),
])
const words = (stage: string) => {
  const lines = of(stage)
  const met = lines.filter((c) => c.result === 'ok').length
  if (stage === 'learned' && waiting.value.length) return t('managed.way.restart', { names: waiting.value.slice(0, 5).join(', ') })
  return lines.length ? t('managed.way.met', { met, n: lines.length }) : t('managed.way.none')
}
const items = computed(() => [
  ...['directory', 'account', 'permitted', 'learned', 'able'].map((stage) => ({
    title: t(`managed.way.${stage}`),
    description: words(stage),
    status: state(stage),
  })),
  {
    title: t('managed.way.used'),
    description: t('managed.way.dependents', props.dependents),
    status: (props.dependents ? 'finish' : 'wait') as 'finish' | 'wait',
  },
])
</script>

<template>
  <Steps
    v-if="report.account && hosts + of('account').length"
    class="way"
    size="small"
    :items="items"
    :aria-label="t('managed.way.title')"
  />
</template>

<style scoped>
.way {
  margin: 12px 0;
}
</style>
