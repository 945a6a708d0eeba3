<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { onChanged } from '../api/changes'
import { api, data, Problem, type Schemas } from '../api/client'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Options of all systems of a site, environment, owner or kind. */
const list = ref<Schemas['CommonOption'][]>()
const draft = ref({ field: 'environment' as Schemas['CommonOption']['field'], value: '', name: 'paths', setting: '' })
const { busy, trouble, work } = useWork()
const kinds = ref<Schemas['Description'][]>([])
const names = computed(() => [...new Set(kinds.value.flatMap((k) => k.options.map((o) => o.name)))])
/** Options whose settings are added to a system's own. */
const added = computed(() =>
  [...new Set(kinds.value.flatMap((k) => k.options.filter((o) => o.adds || o.type === 'paths').map((o) => o.name)))].join(', '),
)
data(api.GET('/api/v1/kinds', {}))
  .then((list) => (kinds.value = list ?? []))
  .catch((e: unknown) => (trouble.value = e instanceof Problem ? e.message : String(e)))

async function load(): Promise<void> {
  try {
    list.value = (await data(api.GET('/api/v1/options', { params: { query: { limit: 500 } } }))).items
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())

const set = () =>
  work('set', async () => {
    await data(api.PUT('/api/v1/options', { body: { ...draft.value } }))
    draft.value = { ...draft.value, value: '', setting: '' }
    await load()
  })
const remove = (id: number) =>
  work('remove', async () => {
    await data(api.DELETE('/api/v1/options/{id}', { params: { path: { id } } }))
    await load()
  })
</script>

<template>
  <div class="panel apart">
    <p class="soft first">
      Systems that are added later have them too. Lists ({{ added }}) are added to a system’s own; of other options a system’s own counts.
    </p>
    <table v-if="list?.length" class="dense">
      <thead>
        <tr>
          <th scope="col">All systems with</th>
          <th scope="col">Option</th>
          <th scope="col">Setting</th>
          <th scope="col">Systems now</th>
          <th scope="col">By</th>
          <th scope="col"><span class="visually-hidden">Remove</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="o in list" :key="o.id">
          <td>{{ o.field }} {{ o.value }}</td>
          <td>{{ o.name }}</td>
          <td class="mono break">{{ o.setting }}</td>
          <td>{{ o.systems }}</td>
          <td>{{ o.set_by }}</td>
          <td>
            <Button size="small" :aria-label="`Remove the option ${o.name} of ${o.field} ${o.value}`" @click="remove(o.id)">Remove</Button>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="list" class="soft">There are none yet.</p>
    <form class="row" @submit.prevent="set">
      <label class="row"
        ><span>All systems with</span
        ><select v-model="draft.field" class="field">
          <option v-for="f in ['site', 'environment', 'owner', 'kind']" :key="f" :value="f">{{ f }}</option>
        </select></label
      >
      <input v-model="draft.value" class="field" required aria-label="Value of that field" placeholder="production" />
      <label class="row"
        ><span>have the option</span
        ><select v-model="draft.name" class="field">
          <option v-for="n in names" :key="n" :value="n">{{ n }}</option>
        </select></label
      >
      <input v-model="draft.setting" class="field wide" required aria-label="Setting" placeholder="/etc/shared.env;/opt/db.conf" />
      <Button type="primary" html-type="submit" :loading="busy === 'set'">Set</Button>
    </form>
    <Trouble :words="trouble" />
  </div>
</template>

<style scoped>
.apart {
  margin-bottom: 10px;
}
.first {
  margin-top: 0;
}
.wide {
  flex: 1;
  min-width: 220px;
}
.break {
  overflow-wrap: anywhere;
}
form {
  margin-top: 10px;
}
</style>
