<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, data, Problem, type Schemas } from '../api/client'
import { useSession } from '../state/session'
import Trouble from './Trouble.vue'

/** One system, with a steward that is stored already or stored with it. */
const emit = defineEmits<{ done: [] }>()
const router = useRouter()
const session = useSession()
const stewards = ref<Schemas['Steward'][]>([])
const kinds = ref<Schemas['Description'][]>([])
const form = ref({ name: '', kind: 'unix-host', address: '', port: '', steward: '', site: '', environment: '', owner: '', ca: '' })
/** Settings of the options of the kind that is chosen. */
const settings = ref<Record<string, string>>({})
const fresh = ref({ name: '', account: '', password: '', key: '' })
const trouble = ref('')
const busy = ref(false)
const newSteward = '\u0000new'
const isNew = computed(() => form.value.steward === newSteward)
const of = computed(() => kinds.value.find((k) => k.kind === form.value.kind))
watch(of, () => (settings.value = {}))

data(api.GET('/api/v1/kinds', {}))
  .then((list) => (kinds.value = list ?? []))
  .catch((e: unknown) => (trouble.value = e instanceof Problem ? e.message : String(e)))
data(api.GET('/api/v1/stewards', { params: { query: { limit: 500 } } }))
  .then((page) => (stewards.value = page.items))
  .catch((e: unknown) => (trouble.value = e instanceof Problem ? e.message : String(e)))

async function pickCA(event: Event): Promise<void> {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (file) form.value.ca = await file.text()
}

/** Those that were set. */
function options(): Record<string, string> {
  return Object.fromEntries(Object.entries(settings.value).filter(([, setting]) => setting))
}

async function add(): Promise<void> {
  busy.value = true
  trouble.value = ''
  try {
    const f = form.value
    if (isNew.value) {
      await data(
        api.PUT('/api/v1/stewards/{name}', {
          params: { path: { name: fresh.value.name } },
          body: {
            account: fresh.value.account,
            ...(fresh.value.password ? { password: fresh.value.password } : {}),
            ...(fresh.value.key ? { private_key: fresh.value.key } : {}),
          },
        }),
      )
    }
    await data(
      api.POST('/api/v1/systems', {
        body: {
          name: f.name,
          kind: f.kind,
          address: f.address,
          port: Number(f.port) || 0,
          steward: isNew.value ? fresh.value.name : f.steward,
          site: f.site,
          environment: f.environment,
          owner: f.owner,
          options: options(),
          trusted_ca: of.value?.proof === 'certificate' ? f.ca : '',
        },
      }),
    )
    emit('done')
    await router.push(`/systems/${encodeURIComponent(f.name)}`)
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  } finally {
    fresh.value.password = ''
    fresh.value.key = ''
    busy.value = false
  }
}
</script>

<template>
  <form class="panel form" @submit.prevent="add">
    <label class="above"><span>Name</span><input v-model="form.name" class="field" required /></label>
    <label class="above"
      ><span>Kind</span>
      <select v-model="form.kind" class="field">
        <option v-for="k in kinds" :key="k.kind" :value="k.kind">{{ k.title }}</option>
      </select>
    </label>
    <label class="above"><span>Address, if it is not the name</span><input v-model="form.address" class="field" /></label>
    <label class="above"
      ><span>Port, if it is not {{ of?.port }}</span
      ><input v-model="form.port" class="field" inputmode="numeric" pattern="[0-9]*"
    /></label>
    <label class="above"
      ><span>Steward</span>
      <select v-model="form.steward" class="field" required>
        <option value="" disabled>choose</option>
        <option v-for="l in stewards" :key="l.name" :value="l.name">{{ l.name }} ({{ l.account }})</option>
        <option v-if="session.may('administrator')" :value="newSteward">a new one</option>
      </select>
    </label>
    <template v-if="isNew">
      <label class="above"><span>Name of the steward</span><input v-model="fresh.name" class="field" required /></label>
      <label class="above"><span>Account</span><input v-model="fresh.account" class="field" required autocomplete="off" /></label>
      <label class="above"
        ><span>Password</span><input v-model="fresh.password" class="field" type="password" autocomplete="new-password"
      /></label>
      <label v-if="of?.sign_in.includes('private-key')" class="above"
        ><span>or private key (PEM)</span><textarea v-model="fresh.key" class="field" rows="2" autocomplete="off" />
      </label>
    </template>
    <label v-for="o in of?.options" :key="o.name" class="above"
      ><span
        >{{ o.help.charAt(0).toUpperCase() + o.help.slice(1) }} <span class="soft">({{ o.name }})</span></span
      >
      <select v-if="o.type === 'choice'" v-model="settings[o.name]" class="field">
        <option :value="undefined">{{ o.default ?? 'not set' }}</option>
        <option v-for="c in o.choices" :key="c" :value="c">{{ c }}</option>
      </select>
      <input v-else v-model="settings[o.name]" class="field" :placeholder="o.default" />
    </label>
    <label v-if="of?.proof === 'certificate'" class="above"
      ><span>CA certificate (PEM), if the machine does not trust it</span
      ><input class="field" type="file" accept=".pem,.crt,.cer" @change="pickCA"
    /></label>
    <label class="above"><span>Site</span><input v-model="form.site" class="field" /></label>
    <label class="above"><span>Environment</span><input v-model="form.environment" class="field" /></label>
    <label class="above"><span>Owner</span><input v-model="form.owner" class="field" /></label>
    <div class="wide">
      <Trouble :words="trouble" /><Button type="primary" html-type="submit" :loading="busy">Add the system</Button>
      <span class="soft"> Then check it, stage by stage, on its page.</span>
    </div>
  </form>
</template>

<style scoped>
.form {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(220px, 1fr));
  gap: 0 16px;
  margin-bottom: 12px;
  align-items: end;
}
.wide {
  grid-column: 1 / -1;
}
textarea {
  resize: vertical;
}
</style>
