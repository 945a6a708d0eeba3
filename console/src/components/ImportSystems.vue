<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data, Problem, type Schemas } from '../api/client'
import Trouble from './Trouble.vue'
import { plural } from './words'

/** Many systems from a list, with what is wrong in it by line and column. */
const emit = defineEmits<{ done: [] }>()
const list = ref('')
const stewards = ref<Schemas['Steward'][]>([])
const steward = ref('')
const windows = ref('')
const signin = ref<'ntlm' | 'kerberos' | 'basic'>('ntlm')
const ca = ref('')
const done = ref<Schemas['Import']>()
const trouble = ref('')
const busy = ref(false)

data(api.GET('/api/v1/stewards', { params: { query: { limit: 500 } } }))
  .then((page) => (stewards.value = page.items))
  .catch((e: unknown) => (trouble.value = e instanceof Problem ? e.message : String(e)))

async function pick(event: Event, into: (text: string) => void): Promise<void> {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (file) into(await file.text())
}

async function run(): Promise<void> {
  busy.value = true
  trouble.value = ''
  try {
    done.value = await data(
      api.POST('/api/v1/systems/import', {
        body: {
          list: list.value,
          steward: steward.value,
          windows_steward: windows.value,
          windows_signin: signin.value,
          windows_ca: ca.value,
        },
      }),
    )
    emit('done')
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <form class="panel import" @submit.prevent="run">
    <label class="above"
      ><span
        >A CSV with a header line (name, address, port, kind, steward, site, environment, owner, paths; only name is needed), or one name a
        line</span
      >
      <textarea v-model="list" class="field mono" rows="6" required />
    </label>
    <div class="row">
      <label class="row"
        ><span>or a file</span><input class="field" type="file" accept=".csv,.txt" @change="pick($event, (text) => (list = text))"
      /></label>
      <label class="row"
        ><span>Steward of unix hosts</span
        ><select v-model="steward" class="field">
          <option value="">as the list says</option>
          <option v-for="l in stewards" :key="l.name" :value="l.name">{{ l.name }}</option>
        </select></label
      >
      <label class="row"
        ><span>of windows hosts</span
        ><select v-model="windows" class="field">
          <option value="">as the list says</option>
          <option v-for="l in stewards" :key="l.name" :value="l.name">{{ l.name }}</option>
        </select></label
      >
      <label class="row"
        ><span>by</span
        ><select v-model="signin" class="field">
          <option value="ntlm">NTLM</option>
          <option value="kerberos">Kerberos</option>
          <option value="basic">Basic</option>
        </select></label
      >
      <label class="row"
        ><span>their CA</span><input class="field" type="file" accept=".pem,.crt,.cer" @change="pick($event, (text) => (ca = text))"
      /></label>
    </div>
    <Trouble :words="trouble" />
    <div><Button type="primary" html-type="submit" :loading="busy" :disabled="!list">Add them</Button></div>
    <template v-if="done">
      <p aria-live="polite">
        {{ plural(done.added.length, 'system') }} added, {{ done.known.length }} already there,
        {{ plural(done.problems.length, 'row') }} not taken.
      </p>
      <table v-if="done.problems.length + done.warnings.length" class="dense">
        <thead>
          <tr>
            <th scope="col">Line</th>
            <th scope="col">Column</th>
            <th scope="col">Text</th>
            <th scope="col">What is wrong</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(p, i) in done.problems" :key="'p' + i">
            <td>{{ p.line }}</td>
            <td>{{ p.column }}</td>
            <td class="mono">{{ p.text }}</td>
            <td>{{ p.what }} <span class="soft">(not taken)</span></td>
          </tr>
          <tr v-for="(p, i) in done.warnings" :key="'w' + i">
            <td>{{ p.line }}</td>
            <td>{{ p.column }}</td>
            <td class="mono">{{ p.text }}</td>
            <td>{{ p.what }}</td>
          </tr>
        </tbody>
      </table>
    </template>
  </form>
</template>

<style scoped>
.import {
  display: grid;
  gap: 10px;
  margin-bottom: 12px;
}
textarea {
  resize: vertical;
}
</style>
