<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { useSession } from '../state/session'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import StateTag from './StateTag.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** One experiment: each right, and what fails without it. */
const props = defineProps<{ proof: Schemas['CharterProof'] }>()
const session = useSession()
const { busy, trouble, work } = useWork()
const stop = () =>
  work('stop', async () => void (await data(api.POST('/api/v1/proofs/{id}/stop', { params: { path: { id: props.proof.id } } }))))
const may = computed(() => ['waits', 'running'].includes(props.proof.state) && (session.may('operator') || session.may('administrator')))
const failing = computed(() => props.proof.report.with.filter((s) => !s.ok))
const columns = [
  { key: 'right', title: t('proofs.right'), content: 'text' as const },
  { key: 'verdict', title: t('proofs.is'), width: 120 },
  { key: 'fails', title: t('proofs.without'), content: 'text' as const },
]
</script>

<template>
  <div class="proof">
    <p v-if="proof.words">{{ proof.words }}</p>
    <p v-if="may">
      <Button size="small" :loading="busy === 'stop'" @click="stop">{{ t('proofs.stop') }}</Button>
    </p>
    <Trouble :words="trouble" />
    <template v-if="failing.length">
      <p class="soft">{{ t('proofs.with') }}</p>
      <p v-for="s in failing" :key="s.step">
        <code>{{ s.step }}</code> {{ s.words }}
      </p>
    </template>
    <PlainTable
      v-if="proof.report.items.length"
      :label="t('proofs.tab')"
      :columns="columns"
      :rows="proof.report.items"
      :row-key="(i) => i.right"
    >
      <template #verdict="{ row }"
        ><StateTag :state="row.verdict" :as="row.verdict === 'needed' ? 'ok' : row.verdict === 'unneeded' ? 'warning' : 'unknown'"
      /></template>
      <template #fails="{ row }">
        <div v-for="f in row.fails ?? []" :key="f.step">
          <code>{{ f.step }}</code> <span class="soft">{{ f.words }}</span>
        </div>
        <span v-if="row.words" class="soft">{{ row.words }}</span>
      </template>
    </PlainTable>
    <template v-if="proof.beside.length">
      <p class="soft">{{ t('proofs.beside') }}</p>
      <ul>
        <li v-for="b in proof.beside" :key="b">{{ b }}</li>
      </ul>
    </template>
    <p class="soft">{{ t('proofs.steps') }}</p>
    <pre class="mono" tabindex="0">{{ proof.job.join('\n') }}</pre>
  </div>
</template>

<style scoped>
.proof {
  max-width: 940px;
}
.proof pre {
  margin: 0;
  padding: 6px 10px;
  overflow-x: auto;
  background: var(--raised);
  border: 1px solid var(--line);
  border-radius: 6px;
}
</style>
