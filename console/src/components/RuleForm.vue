<script setup lang="ts">
import { Button, Checkbox, Collapse, CollapsePanel, Drawer, Form, FormItem, Input, Segmented, Select, Textarea } from 'ant-design-vue'
import { computed, reactive, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import RulePreview from './RulePreview.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** A rule is written, its preview looked at, and then what was shown is saved. */
const props = defineProps<{ of?: Schemas['Rule'] }>()
const emit = defineEmits<{ done: [words: string]; close: [] }>()
const form = reactive({
  name: props.of?.name ?? '',
  label: props.of?.label ?? '',
  excludes: props.of?.excludes ?? false,
  condition: props.of?.condition ?? '',
  description: props.of?.description ?? '',
  take_in: props.of?.take_in ?? '',
  take_unread: props.of?.take_unread ?? false,
})
const { busy, trouble, work } = useWork()
const shown = ref<{ of: string; preview: Schemas['Preview'] }>()
const now = computed(() => JSON.stringify(form))
/** The preview of what stands in the form; none once something else stands there. */
const preview = computed(() => (shown.value?.of === now.value ? shown.value.preview : undefined))
const ready = computed(() => !!form.name && !!form.label && !!form.condition.trim())
const look = () =>
  work('preview', async () => {
    const of = now.value
    shown.value = { of, preview: await data(api.POST('/api/v1/rules/preview', { body: { ...form } })) }
  })
const save = () =>
  work('save', async () => {
    const did = await data(
      api.PUT('/api/v1/rules/{name}', { params: { path: { name: form.name } }, body: { ...form, mark: preview.value!.mark } }),
    )
    emit('done', t('rules.saved', { name: form.name, n: did.changed }))
  })

const windows = ref<string[]>([])
void work('windows', async () => {
  windows.value = ((await data(api.GET('/api/v1/windows', { params: { query: { limit: 1000 } } }))).items ?? []).map((w) => w.name)
})
const takeIn = computed(() => [{ value: '', label: t('rules.takesNothing') }, ...windows.value.map((value) => ({ value, label: value }))])
const fields = ref<Schemas['Question'][]>([])
void work('fields', async () => {
  fields.value = (await data(api.GET('/api/v1/rules/fields'))) ?? []
})
const columns = [
  { key: 'name', title: t('changes.field'), content: 'place' as const },
  { key: 'type', title: t('fields.type'), content: 'word' as const },
  { key: 'what', title: t('rules.means'), content: 'text' as const },
]
const ways = [
  { value: 'gives', label: t('rules.gives') },
  { value: 'excludes', label: t('rules.keepsAway') },
]
/** What keeps a label away takes nothing into custody. */
function excludes(to: string): void {
  form.excludes = to === 'excludes'
  if (form.excludes) form.take_in = ''
}
const way = computed({ get: () => (form.excludes ? 'excludes' : 'gives'), set: excludes })
</script>

<template>
  <Drawer open width="min(720px, 100vw)" :title="of ? t('rules.change', { name: of.name }) : t('rules.add')" @close="emit('close')">
    <Form layout="vertical" :model="form" @finish="look">
      <FormItem :label="t('fields.name')" html-for="rule-name"
        ><Input id="rule-name" v-model:value="form.name" :disabled="!!of" :maxlength="63" autocomplete="off"
      /></FormItem>
      <div class="row way">
        <Segmented v-model:value="way" :options="ways" />
        <FormItem :label="t('rules.label')" html-for="rule-label" class="label"
          ><Input id="rule-label" v-model:value="form.label" :maxlength="63" autocomplete="off"
        /></FormItem>
      </div>
      <p v-if="form.excludes" class="soft">{{ t('rules.excludesWhat') }}</p>
      <FormItem :label="t('rules.when')" html-for="rule-when" :extra="t('rules.whenHelp')"
        ><Textarea id="rule-when" v-model:value="form.condition" :rows="4" :maxlength="4000" class="mono" spellcheck="false"
      /></FormItem>
      <FormItem v-if="!form.excludes" :label="t('rules.takeIn')" html-for="rule-take" :extra="t('rules.takeInHelp')"
        ><Select id="rule-take" v-model:value="form.take_in" show-search :options="takeIn"
      /></FormItem>
      <FormItem v-if="form.take_in"
        ><Checkbox v-model:checked="form.take_unread">{{ t('rules.takeUnread') }}</Checkbox></FormItem
      >
      <FormItem :label="t('fields.description')" html-for="rule-description"
        ><Input id="rule-description" v-model:value="form.description" :maxlength="1000"
      /></FormItem>
      <Trouble :words="trouble" />
      <div class="row">
        <Button html-type="submit" :type="preview ? 'default' : 'primary'" :loading="busy === 'preview'" :disabled="!ready">{{
          t('rules.look')
        }}</Button>
        <Button v-if="preview" type="primary" :loading="busy === 'save'" @click="save">{{ t('rules.save') }}</Button>
        <span v-else class="soft">{{ t('rules.first') }}</span>
      </div>
    </Form>
    <RulePreview v-if="preview" :preview="preview" />
    <Collapse ghost>
      <CollapsePanel key="fields" :header="t('rules.fields')">
        <PlainTable :label="t('rules.fields')" :columns="columns" :rows="fields" :row-key="(f) => f.name" />
      </CollapsePanel>
    </Collapse>
  </Drawer>
</template>

<style scoped>
.way {
  flex-wrap: wrap;
  align-items: flex-end;
}

.label {
  flex: 1 1 200px;
  margin-bottom: 8px;
}
</style>
