<script setup lang="ts">
import { TypographyParagraph } from 'ant-design-vue'
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import { withoutEnd } from './charters'

/** One line of a comparison: by what it is so, and what would make it as the charter says, with the way back. */
const props = defineProps<{ line: Schemas['CharterLine'] }>()
const proposal = computed(() => props.line.proposal)
const text = computed(() => withoutEnd(proposal.value?.text))
const back = computed(() => withoutEnd(proposal.value?.back))
const entries = computed(() =>
  (props.line.rights ?? []).filter((r) => r.text).map((r) => (r.source ? `${r.text}   (${r.source})` : r.text!)),
)
</script>

<template>
  <div class="line">
    <p v-if="line.because">
      <span class="soft">{{ t('charters.because') }}:</span> {{ line.because }}
    </p>
    <p v-if="line.why">
      <span class="soft">{{ t('charters.why') }}:</span> {{ line.why }}
    </p>
    <template v-if="entries.length">
      <p class="soft">{{ t('charters.entry') }}</p>
      <pre v-for="e in entries" :key="e" class="mono" tabindex="0">{{ e }}</pre>
    </template>
    <template v-if="proposal">
      <p>
        <strong>{{ t('charters.propose') }}</strong> <span class="soft">{{ proposal.where }}</span>
      </p>
      <TypographyParagraph :copyable="{ text, tooltip: false }" class="text">
        <pre class="mono" tabindex="0">{{ text }}</pre>
      </TypographyParagraph>
      <p class="soft">{{ proposal.back_language ? t('charters.backAs', { language: proposal.back_language }) : t('charters.back') }}</p>
      <TypographyParagraph :copyable="{ text: back, tooltip: false }" class="text">
        <pre class="mono" tabindex="0">{{ back }}</pre>
      </TypographyParagraph>
    </template>
    <p v-else-if="line.no_proposal" class="soft">{{ t('charters.noText', { why: line.no_proposal }) }}</p>
  </div>
</template>

<style scoped>
.line {
  max-width: 900px;
}
.line p {
  margin: 4px 0;
}
.line pre {
  margin: 0;
  padding: 6px 10px;
  overflow-x: auto;
  background: var(--raised);
  border: 1px solid var(--line);
  border-radius: 6px;
}
.text {
  display: flex;
  gap: 8px;
  align-items: start;
}
.text pre {
  flex: 1 1 auto;
  min-width: 0;
}
</style>
