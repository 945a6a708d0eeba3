<script setup lang="ts">
import { Alert, Button, Form, FormItem, Input, Select } from 'ant-design-vue'
import { computed, onMounted, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import '../texts/managed'
import ManagedWay from './ManagedWay.vue'
import PlainTable from './PlainTable.vue'
import StateTag from './StateTag.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Asks a directory what managed accounts need there, and of one account whether its hosts can use it. */
const props = defineProps<{ account?: Schemas['Account']; directories: string[] }>()
const emit = defineEmits<{ close: [] }>()
const { busy, trouble, work } = useWork()
const chosen = ref<string>()
/** The one that is chosen, or the only one there is. */
const directory = computed({
  get: () => chosen.value ?? props.account?.system ?? (props.directories.length === 1 ? props.directories[0] : undefined),
  set: (name) => (chosen.value = name),
})
const container = ref('')
const hosts = ref<string[]>([])
const got = ref<Schemas['ManagedReport']>()
const check = () =>
  work('check', async () => {
    got.value = undefined
    const query = {
      ...(props.account ? { account: props.account.id } : {}),
      ...(container.value ? { container: container.value } : {}),
      ...(hosts.value.length ? { host: hosts.value } : {}),
    }
    got.value = await data(api.GET('/api/v1/systems/{name}/managed', { params: { path: { name: directory.value ?? '' }, query } }))
  })
onMounted(() => (props.account ? check() : undefined))
/** What is missing first, what is met last. */
const order = ['failed', 'warning', 'unchecked', 'ok']
const lines = computed(() => [...(got.value?.checks ?? [])].sort((a, b) => order.indexOf(a.result) - order.indexOf(b.result)))
const missing = computed(() => got.value?.checks.filter((c) => c.result === 'failed').length ?? 0)
const doubts = computed(() => got.value?.checks.filter((c) => c.result !== 'failed' && c.result !== 'ok').length ?? 0)
const tone = computed(() => (missing.value ? 'error' : doubts.value ? 'warning' : 'success'))
const said = computed(() =>
  missing.value ? t('managed.missing', missing.value) : doubts.value ? t('managed.doubts', doubts.value) : t('managed.met'),
)
const columns = [
  { key: 'result', title: t('fields.result'), width: 118 },
  { key: 'system', title: t('fields.system'), content: 'system' as const },
  { key: 'what', title: t('managed.what'), content: 'text' as const },
  { key: 'words', title: t('managed.seen'), content: 'text' as const },
  { key: 'next', title: t('managed.next'), content: 'text' as const },
]
</script>

<template>
  <section class="panel check" :aria-label="account ? t('managed.of', { name: account.name }) : t('managed.checkDirectory')">
    <h2>{{ account ? t('managed.of', { name: account.name }) : t('managed.checkDirectory') }}</h2>
    <Form layout="vertical" class="form" @finish="check">
      <template v-if="!account">
        <FormItem :label="t('managed.directory')" html-for="managed-directory"
          ><Select id="managed-directory" v-model:value="directory" show-search :options="directories.map((value) => ({ value }))"
        /></FormItem>
        <FormItem :label="t('managed.container')" html-for="managed-container" :extra="t('managed.containerHelp')"
          ><Input id="managed-container" v-model:value="container" class="mono" :maxlength="1000" autocomplete="off" allow-clear
        /></FormItem>
      </template>
      <FormItem v-else :label="t('managed.hosts')" html-for="managed-hosts" :extra="t('managed.hostsHelp')"
        ><Select id="managed-hosts" v-model:value="hosts" mode="tags" :token-separators="[' ', ',']" :open="false"
      /></FormItem>
      <div class="acts">
        <Button type="primary" html-type="submit" :disabled="!directory" :loading="busy === 'check'">{{ t('managed.check') }}</Button>
        <Button @click="emit('close')">{{ t('do.close') }}</Button>
      </div>
    </Form>
    <Trouble :words="trouble" />
    <template v-if="got">
      <ManagedWay v-if="account" :report="got" :dependents="account.dependents ?? 0" />
      <Alert :type="tone" show-icon :message="said" role="status" />
      <PlainTable :label="t('managed.checks')" :columns="columns" :rows="lines" :row-key="(_, i) => i" :size="50">
        <template #result="{ row }"><StateTag :state="t(`managed.result.${row.result}`)" :as="row.result" /></template>
      </PlainTable>
      <p v-if="got.account?.partly" class="soft">{{ t('managed.partly', { words: got.account.partly }) }}</p>
    </template>
  </section>
</template>

<style scoped>
.check {
  margin-bottom: 16px;
}
.form {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(260px, 1fr));
  column-gap: 16px;
}
.acts {
  grid-column: 1 / -1;
  display: flex;
  gap: 8px;
  margin-bottom: 12px;
}
</style>
