<script setup lang="ts">
import { Button, Checkbox, Drawer, Form, FormItem, Input, InputNumber, Segmented, Select, Textarea, Upload } from 'ant-design-vue'
import { computed, reactive, ref } from 'vue'
import { api, data } from '../api/client'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Which credentials are rotated together, and how. They are rehearsed first; nothing is started from here. */
const props = defineProps<{ label?: string }>()
const emit = defineEmits<{ made: [id: number]; close: [] }>()
const form = reactive({
  by: 'label' as 'label' | 'names' | 'filters' | 'findings' | 'values',
  label: props.label ?? '',
  names: '',
  filters: '',
  findings: '',
  values: '',
  reason: '',
  onFailure: 'undo' as 'undo' | 'stop' | 'continue',
  atOnce: 4,
  firstAlone: false,
})
const ways = (['label', 'names', 'filters', 'findings', 'values'] as const).map((value) => ({ value, label: t(`batches.by.${value}`) }))
const endings = (['undo', 'stop', 'continue'] as const).map((value) => ({ value, label: t(`policies.onFailure.${value}`) }))
const lines = (text: string) => text.split('\n')
const ready = computed(() => !!form.reason.trim() && !!form[form.by].trim())
const { busy, trouble, work } = useWork()
const make = () =>
  work('make', async () => {
    const chosen = {
      label: () => ({ label: form.label }),
      names: () => ({ names: lines(form.names) }),
      filters: () => ({ filters: lines(form.filters).filter((l) => l.trim()) }),
      findings: () => ({ findings: lines(form.findings).filter((l) => l.trim()) }),
      values: () => ({ values: form.values }),
    }[form.by]()
    const made = await data(
      api.POST('/api/v1/batches', {
        body: {
          ...chosen,
          reason: form.reason,
          on_failure: form.onFailure,
          restart: 'now',
          at_once: form.atOnce,
          first_alone: form.firstAlone,
        },
      }),
    )
    form.values = '' // they are sealed now
    emit('made', made.id)
  })
/** The file is read here and kept nowhere; it is never uploaded as one. */
const read = (file: File) => {
  void work('read', async () => {
    form.values = await file.text()
  })
  return false
}
const labels = ref<string[]>([])
void work('labels', async () => {
  labels.value = ((await data(api.GET('/api/v1/labels'))) ?? []).map((l) => l.label)
})
</script>

<template>
  <Drawer open width="min(640px, 100vw)" :title="t('batches.add')" @close="emit('close')">
    <Form layout="vertical" :model="form" @finish="make">
      <FormItem :label="t('batches.which')"
        ><Segmented v-model:value="form.by" :options="ways" :aria-label="t('batches.which')"
      /></FormItem>
      <FormItem v-if="form.by === 'label'" :label="t('rules.label')" html-for="batch-label"
        ><Select id="batch-label" v-model:value="form.label" show-search :options="labels.map((value) => ({ value, label: value }))"
      /></FormItem>
      <FormItem v-else-if="form.by === 'names'" :label="t('batches.names')" html-for="batch-names" :extra="t('batches.namesHelp')"
        ><Textarea id="batch-names" v-model:value="form.names" :rows="8" class="mono" spellcheck="false"
      /></FormItem>
      <FormItem
        v-else-if="form.by === 'findings'"
        :label="t('batches.filters')"
        html-for="batch-findings"
        :extra="t('batches.findingsHelp')"
        ><Textarea id="batch-findings" v-model:value="form.findings" :rows="3" class="mono" spellcheck="false"
      /></FormItem>
      <FormItem v-else-if="form.by === 'values'" :label="t('batches.values')" html-for="batch-values" :extra="t('batches.valuesHelp')">
        <Upload accept=".csv,text/csv,text/plain" :max-count="1" :before-upload="read" :show-upload-list="false"
          ><Button id="batch-values">{{ form.values ? t('batches.valuesOther') : t('batches.valuesChoose') }}</Button></Upload
        >
        <span v-if="form.values" class="soft" role="status">{{ t('batches.valuesRead', { n: lines(form.values.trim()).length }) }}</span>
      </FormItem>
      <FormItem v-else :label="t('batches.filters')" html-for="batch-filters" :extra="t('batches.filtersHelp')"
        ><Textarea id="batch-filters" v-model:value="form.filters" :rows="3" class="mono" spellcheck="false"
      /></FormItem>
      <FormItem :label="t('rotate.whenFails')"
        ><Segmented v-model:value="form.onFailure" :options="endings" :aria-label="t('rotate.whenFails')"
      /></FormItem>
      <FormItem :label="t('policies.atOnce')" html-for="batch-once"
        ><InputNumber id="batch-once" v-model:value="form.atOnce" :min="1" :max="100"
      /></FormItem>
      <FormItem
        ><Checkbox v-model:checked="form.firstAlone">{{ t('policies.firstAlone') }}</Checkbox></FormItem
      >
      <FormItem :label="t('fields.reasonRecorded')" html-for="batch-reason"
        ><Input id="batch-reason" v-model:value="form.reason" :maxlength="500"
      /></FormItem>
      <Trouble :words="trouble" />
      <div class="row">
        <Button html-type="submit" type="primary" :loading="busy === 'make'" :disabled="!ready">{{ t('batches.rehearse') }}</Button>
        <span class="soft">{{ t('batches.nothingYet') }}</span>
      </div>
    </Form>
  </Drawer>
</template>
