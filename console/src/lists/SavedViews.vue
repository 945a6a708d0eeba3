<script setup lang="ts">
import { DeleteOutlined, StarOutlined } from '@ant-design/icons-vue'
import { Button, Input, Popover } from 'ant-design-vue'
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { personal } from '../state/personal'
import { t } from '../texts'
import { several } from './listing'

/** Filters, order and columns of a list under a name; they are one's own. */
interface View {
  name: string
  f: string[]
  sort: string
  q: string
  columns: string[]
}
const props = defineProps<{ list: string; columns: string[] }>()
const emit = defineEmits<{ columns: [keys: string[]] }>()
const views = personal<View[]>(`views-${props.list}`, [])
const route = useRoute()
const router = useRouter()
const name = ref('')
const open = ref(false)

function save(): void {
  const title = name.value.trim()
  if (!title) return
  const view = {
    name: title,
    f: several(route.query.f),
    sort: several(route.query.sort)[0] ?? '',
    q: several(route.query.q)[0] ?? '',
    columns: props.columns,
  }
  views.value = [...views.value.filter((v) => v.name !== title), view].sort((a, b) => a.name.localeCompare(b.name))
  name.value = ''
}
function show(view: View): void {
  open.value = false
  emit('columns', view.columns)
  void router.push({ query: { f: view.f, sort: view.sort || undefined, q: view.q || undefined } })
}
const drop = (view: View): void => {
  views.value = views.value.filter((v) => v.name !== view.name)
}
</script>

<template>
  <Popover v-model:open="open" trigger="click" placement="bottomRight">
    <Button size="small"><StarOutlined aria-hidden="true" />{{ t('lists.views') }}</Button>
    <template #content>
      <div class="views">
        <p v-if="!views.length" class="soft">{{ t('lists.noViews') }}</p>
        <div v-for="v in views" :key="v.name" class="row spread">
          <Button type="link" size="small" class="view" @click="show(v)">{{ v.name }}</Button>
          <Button type="text" size="small" :aria-label="t('lists.dropView', { name: v.name })" @click="drop(v)"
            ><DeleteOutlined aria-hidden="true"
          /></Button>
        </div>
        <form class="row" @submit.prevent="save">
          <Input
            v-model:value="name"
            size="small"
            :maxlength="60"
            :aria-label="t('lists.viewName')"
            :placeholder="t('lists.viewName')"
            class="name"
          />
          <Button size="small" html-type="submit" :disabled="!name.trim()">{{ t('lists.saveView') }}</Button>
        </form>
      </div>
    </template>
  </Popover>
</template>

<style scoped>
.views {
  display: grid;
  gap: 6px;
  width: 260px;
}
.view {
  max-width: 200px;
  overflow: hidden;
  text-overflow: ellipsis;
}
.name {
  flex: 1;
}
p {
  margin: 0;
}
</style>
