<script setup lang="ts">
import { Alert } from 'ant-design-vue'
import { RouterLink } from 'vue-router'
import type { Schemas } from '../api/client'
import { t } from '../texts'

/** Findings about one thing, which is not named again: the gravest ones, and where the others are. */
const props = defineProps<{ findings: Schemas['Finding'][]; about: string; at?: string; most?: number; more?: string; all?: string }>()
const shown = () => props.findings.slice(0, props.most ?? props.findings.length)
const types: Record<string, 'error' | 'warning' | 'info'> = { high: 'error', medium: 'warning', low: 'info' }
</script>

<template>
  <Alert v-for="f in shown()" :key="f.id" :type="types[f.severity] ?? 'info'" class="finding">
    <template #message
      ><b>{{ t(`findings.severities.${f.severity}`) }}</b
      >{{ ' '
      }}<template v-if="f.subject !== about"
        ><RouterLink v-if="f.dependent_id" :to="`/dependents/${f.dependent_id}`">{{ f.subject }}</RouterLink
        ><b v-else>{{ f.subject }}</b
        ><template v-if="f.system">{{ ' ' }}{{ t('words.on') }} {{ f.system }}</template
        >: </template
      ><template v-else-if="at && f.system && f.system !== at"
        ><b>{{ f.system }}</b
        >: </template
      >{{ f.what }}
      <div class="soft">{{ f.next_step }}</div></template
    >
  </Alert>
  <p v-if="all && findings.length > shown().length">
    <RouterLink :to="all">{{ more }}</RouterLink>
  </p>
</template>

<style scoped>
.finding {
  margin: 6px 0;
  overflow-wrap: anywhere;
}
</style>
