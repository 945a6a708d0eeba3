<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import Facts, { type Fact } from './Facts.vue'
import When from './When.vue'
import { never } from './words'

const props = defineProps<{ system: Schemas['System'] }>()
const facts = computed<Fact[]>(() => {
  const s = props.system
  const f = s.facts
  return [
    { key: 'kind', label: t('fields.kind'), value: s.kind },
    { key: 'address', label: t('systems.address'), value: s.address + (s.port ? ':' + s.port : ''), mono: true },
    { key: 'steward', label: t('systems.steward'), value: s.steward },
    { key: 'site', label: t('systems.site'), value: s.site },
    { key: 'environment', label: t('systems.environment'), value: s.environment },
    { key: 'owner', label: t('fields.owner'), value: s.owner },
    ...Object.entries(s.options ?? {}).map(([name, setting]) => ({
      key: 'option-' + name,
      label: t('systems.option', { name }),
      value: String(setting),
      mono: true,
    })),
    { key: 'flavor', label: t('systems.software'), value: f.flavor },
    { key: 'domains', label: t('systems.domains'), value: f.domains?.join(', ') },
    { key: 'trusts', label: t('systems.trusts'), value: f.trusts?.map((trust) => trust.names?.join(', ')).join('; ') },
    { key: 'identity', label: t('systems.identity'), value: f.identity, mono: true },
    { key: 'keys', label: t('systems.hostKeys'), value: s.host_keys.join(', '), mono: true },
    { key: 'ca', label: t('systems.ca'), value: s.trusted_ca ? t('systems.ownCA') : '' },
    { key: 'trusted', label: t('systems.secretsMayGo'), value: s.trusted },
    { key: 'booted', label: t('systems.booted'), value: never(f.booted) ? '' : 'there' },
    { key: 'reboot', label: t('systems.reboot'), value: f.reboot },
    { key: 'clock', label: t('systems.clock'), value: f.clock_off ? t('systems.clockOff', { n: Math.round(f.clock_off / 1e9) }) : '' },
    { key: 'certificate', label: t('systems.certificate'), value: f.certificate },
    { key: 'read', label: t('systems.readCompletely'), always: true },
  ]
})
</script>

<template>
  <Facts :facts="facts">
    <template #booted><When :at="system.facts.booted" /></template>
    <template #read
      ><When v-if="!never(system.read_completely)" :at="system.read_completely" /><span v-else class="soft">{{
        t('words.never')
      }}</span></template
    >
  </Facts>
</template>
