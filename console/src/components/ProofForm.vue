<script setup lang="ts">
import { Form, FormItem, Input, Modal, Textarea } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { api, data } from '../api/client'
import { t } from '../texts'
import AccountSelect from './AccountSelect.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Asks for an experiment: with which account, and by which job. */
const props = defineProps<{ charter: string }>()
const emit = defineEmits<{ done: [words: string]; close: [] }>()
const { busy, trouble, work } = useWork()
const account = ref<number>()
const job = ref('')
const reason = ref('')
const complete = computed(() => !!account.value && !!job.value.trim() && !!reason.value.trim())
const begin = () =>
  work('begin', async () => {
    const v = await data(
      api.POST('/api/v1/charters/{name}/prove', {
        params: { path: { name: props.charter } },
        body: { account_id: account.value!, job: job.value, reason: reason.value },
      }),
    )
    emit('done', v.waits_for_approval ? t('proofs.waits', { n: v.waits_for_approval }) : t('proofs.begun'))
  })
</script>

<template>
  <Modal
    open
    :title="t('proofs.prove')"
    :ok-text="t('proofs.prove')"
    :cancel-text="t('do.notNow')"
    :confirm-loading="busy === 'begin'"
    :ok-button-props="{ disabled: !complete }"
    @ok="begin"
    @cancel="emit('close')"
  >
    <p>{{ t('proofs.lead') }}</p>
    <Form layout="vertical">
      <FormItem :label="t('proofs.account')" :extra="t('proofs.accountHelp')"
        ><AccountSelect v-model="account" :label="t('proofs.account')" :filter="['labels~scratch', 'gone=']" :empty="t('accounts.empty')"
      /></FormItem>
      <FormItem :label="t('proofs.job')" :extra="t('proofs.jobHelp')" html-for="proof-job"
        ><Textarea id="proof-job" v-model:value="job" class="mono" :rows="5" :maxlength="65536"
      /></FormItem>
      <FormItem :label="t('proofs.reason')" :extra="t('proofs.two')" html-for="proof-reason"
        ><Input id="proof-reason" v-model:value="reason" :maxlength="500"
      /></FormItem>
    </Form>
    <Trouble :words="trouble" />
  </Modal>
</template>
