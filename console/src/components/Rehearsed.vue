<script setup lang="ts">
import { Alert, Button, Collapse, CollapsePanel, List, ListItem } from 'ant-design-vue'
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import { comparison, decisionOf } from './rehearsal'
import StateTag from './StateTag.vue'
import When from './When.vue'

/** A rehearsal in the order in which a careful person asks: not known, changes, stands still, checked. */
const props = defineProps<{ answer: Schemas['RehearsalAnswer']; before?: Schemas['RehearsalAnswer']; undo?: boolean }>()
const d = computed(() => decisionOf(props.answer))
const compared = computed(() => comparison(props.before, props.answer))
const verdict = computed(() => props.answer.rehearsal.verdict)
const columns = [
  { key: 'result', title: t('fields.result'), width: 112 },
  { key: 'system', title: t('fields.system'), content: 'system' as const },
  { key: 'what', title: t('rotate.check'), content: 'text' as const },
]
const print = () => window.print()
</script>

<template>
  <article class="decision" :aria-label="t('rotate.rehearsed')">
    <div class="row spread">
      <p class="verdict">
        {{ t('rotate.theRehearsal') }} <StateTag :state="verdict" />
        <span class="soft"><When :at="answer.rehearsal.created" /> {{ t('words.by') }} {{ answer.rehearsal.created_by }}</span>
      </p>
      <Button size="small" class="no-print" @click="print">{{ t('do.print') }}</Button>
    </div>
    <Alert v-if="d.unknown.length || d.unchecked.length" type="warning" show-icon class="unknown" :message="t('rotate.notKnown')">
      <template #description>
        <ul>
          <li v-for="n in d.unknown" :key="n.text">
            <b>{{ n.kind.replaceAll('-', ' ') }}: </b>{{ n.text }}
          </li>
          <li v-for="(c, i) in d.unchecked" :key="i">
            <b>{{ c.system }}: </b>{{ c.what }} <span v-if="c.words">({{ c.words }})</span> {{ c.next }}
          </li>
        </ul>
      </template>
    </Alert>
    <p v-else class="known"><StateTag :state="t('rotate.allKnown')" as="ok" /></p>
    <Alert
      v-if="d.wrong.length"
      :type="d.wrong.some((c) => c.result === 'failed') ? 'error' : 'warning'"
      show-icon
      :message="t('rotate.speaksAgainst', d.wrong.length)"
    >
      <template #description>
        <ul>
          <li v-for="(c, i) in d.wrong" :key="i">
            <StateTag :state="c.result" /> <b>{{ c.system }}: </b>{{ c.what }}
            <div v-if="c.words">{{ c.words }}</div>
            <div v-if="c.next" class="soft">{{ c.next }}</div>
          </li>
        </ul>
      </template>
    </Alert>
    <div class="two">
      <section>
        <h2>{{ t('rotate.willHappen') }}</h2>
        <List size="small" :data-source="answer.steps" class="steps">
          <template #renderItem="{ item, index }"
            ><ListItem class="step"
              ><span class="soft number">{{ index + 1 }}</span> <span class="break">{{ item }}</span></ListItem
            ></template
          >
        </List>
      </section>
      <section>
        <h2>{{ t('rotate.standsStill') }}</h2>
        <p>{{ t('rotate.interruption', { words: answer.interruption }) }}</p>
        <ul v-if="d.restarts.length" class="units scrolls">
          <li v-for="unit in d.restarts.slice(0, 40)" :key="unit" class="break">{{ unit }}</li>
          <li v-if="d.restarts.length > 40" class="soft">{{ t('dependents.more', d.restarts.length - 40) }}</li>
        </ul>
        <template v-if="d.notes.length">
          <h2>{{ t('rotate.worthKnowing') }}</h2>
          <ul class="units scrolls">
            <li v-for="n in d.notes" :key="n.text">
              <b v-if="n.kind !== 'info' && n.kind !== 'left-alone'">{{ n.kind.replaceAll('-', ' ') }}: </b>{{ n.text }}
            </li>
          </ul>
        </template>
        <template v-if="compared.since">
          <h2>{{ t('rotate.since') }} <When :at="compared.since" /></h2>
          <p v-if="!compared.more.length && !compared.less.length" class="soft">{{ t('rotate.sameAsBefore') }}</p>
          <ul v-else class="units scrolls">
            <li v-for="l in compared.more.slice(0, 20)" :key="'+' + l">
              <b>{{ t('rotate.new') }}</b> {{ l }}
            </li>
            <li v-for="l in compared.less.slice(0, 20)" :key="'-' + l" class="soft">
              <b>{{ t('rotate.nowGone') }}</b> {{ l }}
            </li>
          </ul>
        </template>
      </section>
    </div>
    <Collapse :default-active-key="verdict === 'passed' && !d.wrong.length ? [] : ['checks']" ghost>
      <CollapsePanel key="checks" :header="t('rotate.checked', { n: answer.rehearsal.checks.length, fine: d.fine.length })">
        <PlainTable
          :label="t('rotate.wasChecked')"
          :columns="columns"
          :rows="[...d.wrong, ...d.unchecked, ...d.fine]"
          :row-key="(_, i) => i"
          :size="50"
          :empty="t('rotate.noChecks')"
        >
          <template #result="{ row }"><StateTag :state="row.result" /></template>
          <template #what="{ row }"
            >{{ row.what }}
            <div v-if="row.words" class="soft">{{ row.words }}</div>
            <div v-if="row.next" class="soft">{{ row.next }}</div></template
          >
        </PlainTable>
      </CollapsePanel>
    </Collapse>
  </article>
</template>

<style scoped>
.verdict {
  font-size: 15px;
  margin: 10px 0 8px;
}
.known {
  margin: 0 0 8px;
}
.decision :deep(.ant-alert) {
  margin-bottom: 10px;
}
ul {
  margin: 0;
  padding-left: 18px;
}
.steps {
  max-height: 460px;
  overflow-y: auto;
}
.step {
  justify-content: flex-start;
  gap: 8px;
  padding: 4px 0 !important;
}
.number {
  min-width: 26px;
  text-align: right;
}
.units {
  max-height: 220px;
  overflow-y: auto;
}
@media print {
  .steps,
  .units {
    max-height: none;
  }
}
</style>
