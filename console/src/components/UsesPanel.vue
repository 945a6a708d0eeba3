<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { ref } from 'vue'
import { onChanged } from '../api/changes'
import { api, data, Problem, type Schemas } from '../api/client'
import { useSession } from '../state/session'
import StateTag from './StateTag.vue'
import Trouble from './Trouble.vue'
import When from './When.vue'

/** Who was seen signed in with an account, and what people say of its use. */
const props = defineProps<{ account: number }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const uses = ref<Schemas['SeenUse'][]>([])
const said = ref<Schemas['Declaration'][]>([])
const trouble = ref('')
const asking = ref(false)
const busy = ref(false)
const form = ref({ place: '', system: '', reason: '', until: '' })

async function load(): Promise<void> {
  try {
    uses.value = (await data(api.GET('/api/v1/accounts/{id}/uses', { params: { path: { id: props.account } } }))) ?? []
    said.value = (await data(api.GET('/api/v1/accounts/{id}/declarations', { params: { path: { id: props.account } } }))) ?? []
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())

async function work(act: () => Promise<unknown>): Promise<void> {
  busy.value = true
  trouble.value = ''
  try {
    await act()
    await load()
    emit('changed')
    asking.value = false
    form.value = { place: '', system: '', reason: '', until: '' }
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  } finally {
    busy.value = false
  }
}
const declare = () =>
  work(() =>
    data(
      api.POST('/api/v1/accounts/{id}/declarations', {
        params: { path: { id: props.account } },
        body: {
          place: form.value.place,
          system: form.value.system || undefined,
          reason: form.value.reason,
          ...(form.value.until ? { until: `${form.value.until}T00:00:00Z` } : {}),
        },
      }),
    ),
  )
const withdraw = (id: number) => work(() => data(api.DELETE('/api/v1/declarations/{id}', { params: { path: { id } } })))
</script>

<template>
  <div class="panel scroll" tabindex="0" role="region" aria-label="Observed and declared use">
    <Trouble :words="trouble" />
    <table v-if="uses.length" class="dense">
      <thead>
        <tr>
          <th scope="col">Signs in to</th>
          <th scope="col">From</th>
          <th scope="col">Program</th>
          <th scope="col">How</th>
          <th scope="col">Times</th>
          <th scope="col">Last seen</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(u, i) in uses" :key="i">
          <td>{{ u.system }}</td>
          <td>
            <RouterLink v-if="u.host" :to="`/systems/${encodeURIComponent(u.host)}`">{{ u.host }}</RouterLink><span v-else>{{
              u.client ? 'no known system' : 'the system itself'
            }}</span
            >{{ ' ' }}
            <span class="soft">{{ u.client }}</span>
          </td>
          <td>
            {{ u.unit || u.program }}<span v-if="u.application" class="soft"> calls itself {{ u.application }}</span>
          </td>
          <td>{{ u.how }} <StateTag v-if="u.failed" state="refused" /></td>
          <td>{{ u.count }}</td>
          <td><When :at="u.last" /></td>
        </tr>
      </tbody>
    </table>
    <p v-else class="soft">Nobody was seen signed in with it: no session of a data store and no record of uses says so.</p>
    <table v-if="said.length" class="dense">
      <thead>
        <tr>
          <th scope="col">Declared</th>
          <th scope="col">On</th>
          <th scope="col">Reason</th>
          <th scope="col">Until</th>
          <th scope="col">By</th>
          <th scope="col"><span class="visually-hidden">Act</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="d in said" :key="d.id">
          <td>{{ d.place }}</td>
          <td>{{ d.system }}</td>
          <td>{{ d.reason }}</td>
          <td>{{ d.until ? d.until.slice(0, 10) : 'no end' }}</td>
          <td>{{ d.said_by }} <When :at="d.said" /></td>
          <td><Button v-if="session.may('operator')" size="small" :loading="busy" @click="withdraw(d.id)">Withdraw</Button></td>
        </tr>
      </tbody>
    </table>
    <template v-if="session.may('operator')">
      <Button v-if="!asking" size="small" @click="asking = true">Declare a use that nothing shows</Button>
      <form v-else class="row" @submit.prevent="declare">
        <label class="above"><span>Where it is used</span><input v-model="form.place" class="field" required maxlength="500" /></label>
        <label class="above"><span>On system (if not its own)</span><input v-model="form.system" class="field" /></label>
        <label class="above"><span>How you know</span><input v-model="form.reason" class="field" required maxlength="500" /></label>
        <label class="above"><span>Ask again on</span><input v-model="form.until" class="field" type="date" /></label>
        <Button type="primary" html-type="submit" :loading="busy">Declare</Button>
        <Button @click="asking = false">Cancel</Button>
      </form>
    </template>
  </div>
</template>

<style scoped>
.scroll {
  overflow-x: auto;
}
</style>
