<script setup lang="ts">
import { Button, Drawer, Form, FormItem, Input, InputNumber, Select, Switch } from 'ant-design-vue'
import { computed, reactive } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** For which rotations a second person is needed; what is said must all hold. */
const props = defineProps<{ of?: Schemas['Requirement'] }>()
const emit = defineEmits<{ done: [words: string]; close: [] }>()
const form = reactive({
  name: props.of?.name ?? '',
  label: props.of?.label ?? '',
  restarts: props.of?.restarts ?? 0,
  kinds: props.of?.kinds ?? [],
  unread: props.of?.unread ?? false,
  hours: props.of?.hours ?? 24,
  description: props.of?.description ?? '',
})
const ready = computed(() => !!form.name && (!!form.label || form.restarts > 0 || form.unread))
const { busy, trouble, work } = useWork()
const save = () =>
  work('save', async () => {
    const { name, ...body } = form
    const answer = await data(
      api.PUT('/api/v1/requirements/{name}', { params: { path: { name } }, body: { ...body, revision: props.of?.revision ?? 0 } }),
    )
    emit('done', answer.waits_for_approval ? t('requirements.waits', { n: answer.waits_for_approval }) : t('requirements.saved', { name }))
  })
</script>

<template>
  <Drawer
    open
    width="min(560px, 100vw)"
    :title="of ? t('requirements.change', { name: of.name }) : t('requirements.add')"
    @close="emit('close')"
  >
    <p class="soft">{{ t(of ? 'requirements.changeHelp' : 'requirements.addHelp') }}</p>
    <Form layout="vertical" :model="form" @finish="save">
      <FormItem :label="t('fields.name')" html-for="requirement-name"
        ><Input id="requirement-name" v-model:value="form.name" :disabled="!!of" :maxlength="63" autocomplete="off"
      /></FormItem>
      <FormItem :label="t('requirements.label')" html-for="requirement-label"
        ><Input id="requirement-label" v-model:value="form.label" :maxlength="63" autocomplete="off"
      /></FormItem>
      <FormItem :label="t('requirements.restarts')" html-for="requirement-restarts"
        ><InputNumber id="requirement-restarts" v-model:value="form.restarts" :min="0" :max="100000"
      /></FormItem>
      <FormItem v-if="form.restarts > 0" :label="t('requirements.kinds')" html-for="requirement-kinds"
        ><Select id="requirement-kinds" v-model:value="form.kinds" mode="tags" :open="false"
      /></FormItem>
      <FormItem :label="t('requirements.unread')" html-for="requirement-unread"
        ><Switch id="requirement-unread" v-model:checked="form.unread"
      /></FormItem>
      <FormItem :label="t('requirements.hoursLong')" html-for="requirement-hours"
        ><InputNumber id="requirement-hours" v-model:value="form.hours" :min="1" :max="720"
      /></FormItem>
      <FormItem :label="t('fields.description')" html-for="requirement-description"
        ><Input id="requirement-description" v-model:value="form.description" :maxlength="1000"
      /></FormItem>
      <Trouble :words="trouble" />
      <Button html-type="submit" type="primary" :loading="busy === 'save'" :disabled="!ready">{{ t('rules.save') }}</Button>
    </Form>
  </Drawer>
</template>
