<script setup lang="ts">
import { Alert, Button, Form, FormItem, Input, Modal } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import PlainTable from '../components/PlainTable.vue'
import StateTag from '../components/StateTag.vue'
import StepList from '../components/StepList.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { moment } from '../components/words'
import { useWork } from '../components/work'
import { useSession } from '../state/session'
import { t } from '../texts'

/** One change of rights: what was asked before, what is done step by step, and what may be decided. */
type Decision = 'stop' | 'resume' | 'go-on' | 'undo'
const id = Number(useRoute().params.id)
const path = { params: { path: { id } } }
const session = useSession()
const of = ref<Schemas['AmendmentView']>()
const waits = ref(0)
const { busy, trouble, work } = useWork()
const load = () =>
  work('load', async () => {
    of.value = await data(api.GET('/api/v1/amendments/{id}', path))
  })
void load()
onChanged(() => void load())
const may = computed(() => session.may('operator') || session.may('administrator'))
const asking = ref<'start' | Decision>()
const reason = ref('')
function took(v: Schemas['AmendmentStands']): void {
  of.value = v
  waits.value = v.waits_for_approval ?? 0
  asking.value = undefined
  reason.value = ''
}
const start = () =>
  work('act', async () => took(await data(api.POST('/api/v1/amendments/{id}/start', { ...path, body: { reason: reason.value } }))))
const decide = (decision: Decision) =>
  work('act', async () =>
    took(await data(api.POST('/api/v1/amendments/{id}/decide', { ...path, body: { decision, reason: reason.value } }))),
  )
const send = () => (asking.value === 'start' ? start() : decide(asking.value!))
const titles: Record<Decision, string> = {
  stop: t('do.stop'),
  resume: t('amendments.resume'),
  'go-on': t('amendments.goOn'),
  undo: t('amendments.undo'),
}
const decisions = computed(() => (['resume', 'go-on', 'stop', 'undo'] as Decision[]).filter((d) => of.value?.decisions.includes(d)))
const managed = computed(() => of.value?.plan?.kind === 'manage')
const said = (charter: string, end: string, account: string) => (of.value?.charter ? charter : managed.value ? account : end)
const title = computed(() => t(said('amendments.number', 'amendments.endNumber', 'amendments.managedNumber'), { n: id }))
const needs = computed(() => t(said('amendments.startNeeds', 'amendments.endNeeds', 'amendments.managedNeeds')))
const begins = computed(() => of.value?.mode === 'rehearsed' && of.value.verdict === 'passed')
const ask = (what: 'start' | Decision) =>
  what === 'stop' || what === 'resume' || what === 'go-on' ? void decide(what) : (asking.value = what)
const columns = [
  { key: 'result', title: t('fields.result'), width: 112 },
  { key: 'system', title: t('fields.system'), content: 'system' as const },
  { key: 'what', title: t('amendments.change'), content: 'text' as const },
  { key: 'words', title: t('amendments.words'), content: 'text' as const },
  { key: 'next', title: t('amendments.next'), content: 'text' as const },
]
</script>

<template>
  <Trouble :words="asking ? '' : trouble" retry @again="load" />
  <template v-if="of">
    <PageHead :title="title">
      <template #title>{{ title }} <StateTag :state="of.result || of.mode" /></template>
      <template #lead
        >{{
          of.charter
            ? t('amendments.byCharter', { name: of.charter, subject: of.subject, who: of.rehearsed_by })
            : t(managed ? 'amendments.ofManaged' : 'amendments.ofEnds', { subject: of.subject, who: of.rehearsed_by })
        }}
        <When :at="of.rehearsed" />.</template
      >
      <template v-if="may">
        <Button v-if="begins" type="primary" @click="ask('start')">{{ t('amendments.start') }}</Button>
        <Button v-for="d in decisions" :key="d" :loading="busy === 'act'" @click="ask(d)">{{ titles[d] }}</Button>
      </template>
    </PageHead>
    <Alert v-if="waits" type="warning" show-icon role="status" :message="needs">
      <template #description
        ><RouterLink to="/approvals?f=state=asked">{{ t('amendments.waits', { n: waits }) }}</RouterLink></template
      >
    </Alert>
    <Trouble :words="of.halted" />
    <p v-if="of.reason">
      {{ of.reason }}
      <span class="soft"
        >{{ of.requested_by }}<template v-if="of.consent">; {{ of.consent }}</template></span
      >
    </p>
    <Alert v-if="of.watches_until" type="info" show-icon :message="t('ends.watches', { at: moment(of.watches_until) })" />
    <section v-if="of.mode !== 'rehearsed'" class="panel">
      <h2>{{ t('amendments.steps') }}</h2>
      <StepList :steps="of.steps" />
    </section>
    <section class="panel">
      <h2>{{ t('amendments.checks') }} <StateTag :state="of.verdict" /></h2>
      <PlainTable :label="t('amendments.checks')" :columns="columns" :rows="of.checks" :row-key="(_, i) => i" :size="50">
        <template #result="{ row }"><StateTag :state="row.result" /></template>
      </PlainTable>
    </section>
    <section v-if="of.left_out.length" class="panel">
      <h2>{{ t('amendments.left') }}</h2>
      <ul>
        <li v-for="l in of.left_out" :key="l">{{ l }}</li>
      </ul>
    </section>
    <Modal
      v-if="asking"
      open
      :title="asking === 'start' ? t('amendments.start') : t('amendments.undo')"
      :ok-text="asking === 'start' ? t('amendments.start') : t('amendments.undo')"
      :cancel-text="t('do.notNow')"
      :confirm-loading="busy === 'act'"
      :ok-button-props="{ disabled: !reason.trim() }"
      @ok="send"
      @cancel="asking = undefined"
    >
      <p>{{ asking === 'start' ? needs : t('amendments.undoAsk') }}</p>
      <Form layout="vertical">
        <FormItem :label="t('amendments.startWhy')" html-for="amendment-reason"
          ><Input id="amendment-reason" v-model:value="reason" :maxlength="500"
        /></FormItem>
      </Form>
      <Trouble :words="trouble" />
    </Modal>
  </template>
</template>

<style scoped>
.panel {
  margin-top: 16px;
}
.panel h2 {
  margin-top: 0;
}
</style>
