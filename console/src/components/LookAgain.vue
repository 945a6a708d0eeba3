<script setup lang="ts">
import { Alert, Button } from 'ant-design-vue'
import { computed } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { useSession } from '../state/session'
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
  <section class="panel" aria-labelledby="look-title">
    <div class="row spread">
      <h2 id="look-title">Looked at again</h2>
      <Button v-if="session.may('operator')" :loading="busy === 'look'" @click="lookNow">Look again now</Button>
    </div>
    <Alert v-if="trouble" type="error" :message="trouble" show-icon />
    <Alert v-if="failed" type="error" :message="`${failed} not as the rotation left it`" show-icon />
    <p v-if="look.looked" class="soft">
      Last <When :at="look.looked" />.<template v-if="look.due"> By itself <When :at="look.due" />.</template>
    </p>
    <p v-else class="soft">
      An hour after its end, <When :at="look.due" />, what it did and proved is looked at again: a directory that still takes the former
      value has forgotten it by then, and what puts files back has done so.
    </p>
    <ul v-if="look.checks.length" class="lines">
      <li v-for="(c, i) in look.checks" :key="i">
        <StateTag :state="c.result" /> {{ c.system ? `${c.system}: ` : '' }}{{ c.what }}
        <span class="soft">{{ c.words }} {{ c.next }}</span>
      </li>
    </ul>
  </section>
</template>

<style scoped>
section {
  margin-bottom: 10px;
}
h2 {
  margin: 0;
}
.lines {
  margin: 8px 0 0;
  padding-left: 0;
  list-style: none;
  overflow-wrap: anywhere;
}
</style>
