<script setup lang="ts">
import { ref } from 'vue'
import { api, data, Problem, type Schemas } from '../api/client'
import Trouble from './Trouble.vue'
import { plural } from './words'

/** Connections and listening ports of a host. */
const props = defineProps<{ system: string }>()
const list = ref<Schemas['SocketOf'][]>([])
const total = ref(0)
const trouble = ref('')
async function load(): Promise<void> {
  try {
    const page = await data(
      api.GET('/api/v1/sockets', { params: { query: { filter: [`system=${props.system}`], sort: 'local_port', limit: 200 } } }),
    )
    list.value = page.items
    total.value = page.total
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  }
}
void load()
</script>

<template>
  <Trouble :words="trouble" />
  <template v-if="list.length">
    <h2>{{ plural(total, 'connection and port', 'connections and ports') }}</h2>
    <div class="panel scroll" tabindex="0" role="region" aria-label="Connections and ports">
      <table class="dense">
        <thead>
          <tr>
            <th scope="col">Here</th>
            <th scope="col">There</th>
            <th scope="col">Unit</th>
            <th scope="col">Program</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(s, i) in list" :key="i">
            <td class="mono">{{ s.local }}:{{ s.local_port }}<span v-if="s.listens" class="soft"> listens</span></td>
            <td class="mono">
              <template v-if="!s.listens"
                >{{ s.peer }}:{{ s.peer_port }} <span class="soft">{{ s.peer_system }}</span></template
              >
            </td>
            <td>{{ s.unit }}</td>
            <td>{{ s.program }}</td>
          </tr>
        </tbody>
      </table>
      <p v-if="total > list.length" class="soft">The first {{ list.length }} of {{ total }}: 'moss socket list' shows all.</p>
    </div>
  </template>
</template>

<style scoped>
.scroll {
  overflow-x: auto;
  max-height: 420px;
}
</style>
