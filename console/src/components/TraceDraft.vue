<script setup lang="ts">
import { Modal, TypographyParagraph } from 'ant-design-vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'

/** A charter drafted from what was sent, to be copied. */
defineProps<{ draft: Schemas['CharterDraft'] }>()
const emit = defineEmits<{ close: [] }>()
</script>

<template>
  <Modal open width="min(860px, 96vw)" :title="t('traces.drafted')" :footer="null" @cancel="emit('close')">
    <p>{{ t('traces.draftWhat') }}</p>
    <TypographyParagraph :copyable="{ text: draft.document, tooltip: false }">
      <pre class="mono text" tabindex="0">{{ draft.document }}</pre>
    </TypographyParagraph>
    <template v-if="draft.not_read.length">
      <p class="soft">{{ t('traces.notRead') }}</p>
      <ul>
        <li v-for="n in draft.not_read" :key="n">{{ n }}</li>
      </ul>
    </template>
  </Modal>
</template>

<style scoped>
.text {
  margin: 0;
  padding: 8px 12px;
  max-height: 50vh;
  overflow: auto;
  background: var(--raised);
  border: 1px solid var(--line);
  border-radius: 6px;
}
</style>
