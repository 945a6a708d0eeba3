<script setup lang="ts">
import { Button, Input, Popover, Tag } from 'ant-design-vue'
import { ref, watch } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { onChanged } from '../api/changes'
import { useSession } from '../state/session'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Labels on an account, each with why it is or is not there. */
const props = defineProps<{ account: number }>()
type Label = Schemas['AccountLabel']
const session = useSession()
const labels = ref<Label[]>([])
const { busy, trouble, work } = useWork()
const load = () =>
  work('load', async () => {
    labels.value = (await data(api.GET('/api/v1/accounts/{id}/labels', { params: { path: { id: props.account } } }))) ?? []
  })
watch(() => props.account, load, { immediate: true })
onChanged(() => void load())
const why = (l: Label) =>
  [
    l.excluded.length ? t('rules.keptAway', { rules: l.excluded.join(', ') }) : '',
    l.by_hand ? t('rules.byHand', { who: l.set_by, why: l.reason }) : '',
    l.rules.length ? t('rules.byRules', { rules: l.rules.join(', ') }) : '',
  ]
    .filter(Boolean)
    .join('; ')

const adding = ref(false)
const label = ref('')
const reason = ref('')
const path = (l: string) => ({ params: { path: { id: props.account, label: l } } })
const put = () =>
  work('put', async () => {
    labels.value =
      (await data(api.PUT('/api/v1/accounts/{id}/labels/{label}', { ...path(label.value), body: { reason: reason.value } }))) ?? []
    adding.value = false
    label.value = reason.value = ''
  })
const drop = (l: Label) =>
  work('drop', async () => {
    labels.value = (await data(api.DELETE('/api/v1/accounts/{id}/labels/{label}', path(l.label)))) ?? []
  })
</script>

<template>
  <div class="row labels">
    <span v-if="!labels.length" class="soft">{{ t('rules.noLabels') }}</span>
    <Tag v-for="l in labels" :key="l.label" :title="why(l)" :class="{ away: !l.on }">
      {{ l.label }}<span class="visually-hidden">: {{ why(l) }}</span>
      <button
        v-if="l.by_hand && session.may('administrator')"
        type="button"
        class="plain-button"
        :aria-label="t('rules.drop', { label: l.label })"
        :disabled="!!busy"
        @click="drop(l)"
      >
        {{ '×' }}
      </button>
    </Tag>
    <Popover v-if="session.may('administrator')" v-model:open="adding" trigger="click" placement="bottom">
      <Button size="small">{{ t('rules.put') }}</Button>
      <template #content>
        <form class="put" @submit.prevent="put">
          <Input v-model:value="label" :placeholder="t('rules.label')" :aria-label="t('rules.label')" :maxlength="63" />
          <Input v-model:value="reason" :placeholder="t('fields.reasonRecorded')" :aria-label="t('fields.reason')" :maxlength="500" />
          <Button type="primary" html-type="submit" :loading="busy === 'put'" :disabled="!label || !reason">{{ t('rules.put') }}</Button>
        </form>
      </template>
    </Popover>
  </div>
  <Trouble :words="trouble" />
</template>

<style scoped>
.labels {
  flex-wrap: wrap;
  gap: 6px;
}
.away {
  text-decoration: line-through;
  opacity: 0.75;
}
.put {
  display: grid;
  gap: 8px;
  width: 260px;
}
</style>
