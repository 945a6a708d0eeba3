<script setup lang="ts">
import { Button, Form, FormItem, Input, Select } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Gives an option to all systems of a site, environment, owner or kind. */
type Common = Schemas['CommonOption']
const props = defineProps<{ kinds: Schemas['Description'][] }>()
const emit = defineEmits<{ done: [] }>()
const said = ref('')
const { busy, trouble, work } = useWork()
const names = computed(() =>
  [...new Set(props.kinds.flatMap((k) => k.options.map((o) => o.name)))].sort().map((value) => ({ value, label: value })),
)
const help = computed(() => props.kinds.flatMap((k) => k.options).find((o) => o.name === draft.value.name)?.help)
const fields = (['site', 'environment', 'owner', 'kind'] as const).map((value) => ({ value, label: t(`options.fields.${value}`) }))
const draft = ref({ field: 'environment' as Common['field'], value: '', name: 'paths', setting: '' })
const set = () =>
  work('set', async () => {
    const v = await data(api.PUT('/api/v1/options', { body: { ...draft.value } }))
    said.value = t('options.set', (v as unknown as Common).systems ?? 0)
    draft.value = { ...draft.value, value: '', setting: '' }
    emit('done')
  })
</script>

<template>
  <section class="panel form">
    <Form :model="{}" layout="inline" @finish="set">
      <FormItem :label="t('options.allWith')" html-for="option-field"
        ><Select id="option-field" v-model:value="draft.field" :options="fields" class="field"
      /></FormItem>
      <FormItem :label="t('options.being')" html-for="option-value"
        ><Input id="option-value" v-model:value="draft.value" :placeholder="t('options.example')"
      /></FormItem>
      <FormItem :label="t('options.have')" html-for="option-name"
        ><Select id="option-name" v-model:value="draft.name" show-search :options="names" class="field"
      /></FormItem>
      <FormItem :label="t('options.setting')" html-for="option-setting"
        ><Input id="option-setting" v-model:value="draft.setting" class="wide"
      /></FormItem>
      <Button type="primary" html-type="submit" :loading="busy === 'set'" :disabled="!draft.value || !draft.setting">{{
        t('options.do')
      }}</Button>
    </Form>
    <p v-if="help" class="soft">{{ draft.name }}: {{ help }}</p>
    <p v-if="said" role="status">{{ said }}</p>
    <Trouble :words="trouble" />
  </section>
</template>

<style scoped>
.form {
  margin-bottom: 12px;
}
.form :deep(.ant-form) {
  row-gap: 10px;
}
.field {
  min-width: 140px;
}
.wide {
  min-width: 240px;
}
</style>
