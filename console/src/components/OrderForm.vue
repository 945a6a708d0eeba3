<script setup lang="ts">
import { Button, Drawer, Form, FormItem, Input, InputNumber, Segmented } from 'ant-design-vue'
import { computed, reactive } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Which dependents are restarted only some at the same time, or which come before which. */
const props = defineProps<{ of?: Schemas['Order'] }>()
const emit = defineEmits<{ done: [words: string]; close: [] }>()
const form = reactive({
  name: props.of?.name ?? '',
  kind: (props.of?.kind ?? 'group') as 'group' | 'sequence',
  at_once: props.of?.at_once || 1,
  members: (props.of?.members ?? [{}]).map((m) => ({ system: m.system ?? '', place: m.place ?? '', label: m.label ?? '' })),
  description: props.of?.description ?? '',
})
const kinds = (['group', 'sequence'] as const).map((value) => ({ value, label: t(`orders.kind.${value}`) }))
const ready = computed(
  () =>
    !!form.name && form.members.every((m) => m.system || m.place || m.label) && form.members.length >= (form.kind === 'sequence' ? 2 : 1),
)
const { busy, trouble, work } = useWork()
const save = () =>
  work('save', async () => {
    await data(
      api.PUT('/api/v1/orders/{name}', {
        params: { path: { name: form.name } },
        body: {
          kind: form.kind,
          ...(form.kind === 'group' ? { at_once: form.at_once } : {}),
          members: form.members,
          description: form.description,
          revision: props.of?.revision ?? 0,
        },
      }),
    )
    emit('done', t('orders.saved', { name: form.name }))
  })
</script>

<template>
  <Drawer open width="min(680px, 100vw)" :title="of ? t('orders.change', { name: of.name }) : t('orders.add')" @close="emit('close')">
    <Form layout="vertical" :model="form" @finish="save">
      <FormItem :label="t('fields.name')" html-for="order-name"
        ><Input id="order-name" v-model:value="form.name" :disabled="!!of" :maxlength="63" autocomplete="off"
      /></FormItem>
      <FormItem :extra="t(`orders.means.${form.kind}`)"
        ><Segmented v-model:value="form.kind" :options="kinds" :aria-label="t('fields.kind')"
      /></FormItem>
      <FormItem v-if="form.kind === 'group'" :label="t('orders.atOnce')" html-for="order-once"
        ><InputNumber id="order-once" v-model:value="form.at_once" :min="1" :max="1000"
      /></FormItem>
      <fieldset>
        <legend>{{ t('orders.members') }}</legend>
        <p class="soft">{{ t('orders.membersHelp') }}</p>
        <div v-for="(m, i) in form.members" :key="i" class="row member">
          <span class="soft">{{ i + 1 }}</span>
          <Input
            v-model:value="m.system"
            :placeholder="t('fields.system')"
            :aria-label="t('orders.systemOf', { n: i + 1 })"
            :maxlength="300"
          />
          <Input
            v-model:value="m.place"
            :placeholder="t('orders.place')"
            :aria-label="t('orders.placeOf', { n: i + 1 })"
            :maxlength="500"
          />
          <Input v-model:value="m.label" :placeholder="t('rules.label')" :aria-label="t('orders.labelOf', { n: i + 1 })" :maxlength="63" />
          <Button size="small" :disabled="form.members.length < 2" @click="form.members.splice(i, 1)">{{ t('do.remove') }}</Button>
        </div>
        <Button size="small" :disabled="form.members.length > 49" @click="form.members.push({ system: '', place: '', label: '' })">{{
          t('orders.more')
        }}</Button>
      </fieldset>
      <FormItem :label="t('fields.description')" html-for="order-description"
        ><Input id="order-description" v-model:value="form.description" :maxlength="1000"
      /></FormItem>
      <Trouble :words="trouble" />
      <Button html-type="submit" type="primary" :loading="busy === 'save'" :disabled="!ready">{{ t('rules.save') }}</Button>
    </Form>
  </Drawer>
</template>

<style scoped>
fieldset {
  border: 0;
  padding: 0;
  margin: 0 0 16px;
}
legend {
  font-size: inherit;
  margin: 0;
}
.member {
  margin-bottom: 8px;
}
</style>
