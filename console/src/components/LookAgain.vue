<script setup lang="ts">
import { Alert, Button, List, ListItem } from 'ant-design-vue'
import { computed } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { useSession } from '../state/session'
import { t } from '../texts'
import StateTag from './StateTag.vue'
import When from './When.vue'
import { useWork } from './work'

const props = defineProps<{ id: number; look: Schemas['Look'] }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const { busy, trouble, work } = useWork()
const failed = computed(() => props.look.checks.filter((c) => c.result === 'failed').length)

const lookNow = () =>
  work('look', async () => {
    await data(api.POST('/api/v1/rotations/{id}/look', { params: { path: { id: props.id } } }))
    emit('changed')
  })
</script>

<template>
  <section class="panel look" aria-labelledby="look-title">
    <div class="row spread">
      <h2 id="look-title">{{ t('look.title') }}</h2>
      <Button v-if="session.may('operator')" size="small" :loading="busy === 'look'" @click="lookNow">{{ t('look.now') }}</Button>
    </div>
    <Alert v-if="trouble" type="error" :message="trouble" show-icon />
    <Alert v-if="failed" type="error" :message="t('look.failed', failed)" show-icon />
    <p v-if="look.looked" class="soft">
      {{ t('look.last') }} <When :at="look.looked" />.<template v-if="look.due">
        {{ t('look.byItself') }} <When :at="look.due" />.</template
      >
    </p>
    <p v-else class="soft">{{ t('look.due') }} <When :at="look.due" />. {{ t('look.why') }}</p>
    <List v-if="look.checks.length" size="small" :data-source="look.checks">
      <template #renderItem="{ item: c }"
        ><ListItem class="line"
          ><StateTag :state="c.result" /> {{ c.system ? `${c.system}: ` : '' }}{{ c.what }}
          <span class="soft">{{ c.words }} {{ c.next }}</span></ListItem
        ></template
      >
    </List>
  </section>
</template>

<style scoped>
.look {
  margin-bottom: 10px;
}
h2 {
  margin: 0;
}
.line {
  display: block;
  padding: 3px 0 !important;
  border: 0;
}
</style>
