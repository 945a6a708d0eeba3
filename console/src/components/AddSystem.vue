<script setup lang="ts">
import {
  Button,
  Collapse,
  CollapsePanel,
  Form,
  FormItem,
  Input,
  InputNumber,
  InputPassword,
  Select,
  Textarea,
  Upload,
} from 'ant-design-vue'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import { useSession } from '../state/session'
import { t } from '../texts'
import Trouble from './Trouble.vue'

/** One system, with a steward that is stored already or stored with it. */
const props = defineProps<{ kind?: string; stay?: boolean }>()
const emit = defineEmits<{ done: [] }>()
const router = useRouter()
const session = useSession()
const stewards = ref<Schemas['Steward'][]>([])
const kinds = ref<Schemas['Description'][]>([])
const form = ref({
  name: '',
  kind: props.kind ?? 'unix-host',
  address: '',
  port: undefined as number | undefined,
  steward: undefined as string | undefined,
  site: '',
  environment: '',
  owner: '',
  ca: '',
})
/** Settings of the options of the kind that is chosen. */
const settings = ref<Record<string, string>>({})
const fresh = ref({ name: '', account: '', password: '', key: '' })
const trouble = ref('')
const added = ref('')
const busy = ref(false)
const newSteward = ' new'
const isNew = computed(() => form.value.steward === newSteward)
const of = computed(() => kinds.value.find((k) => k.kind === form.value.kind))
watch(of, () => (settings.value = {}))

data(api.GET('/api/v1/kinds', {}))
  .then((list) => (kinds.value = list ?? []))
  .catch((e: unknown) => (trouble.value = e instanceof Error ? e.message : String(e)))
data(api.GET('/api/v1/stewards', { params: { query: { limit: 500 } } }))
  .then((page) => (stewards.value = page.items))
  .catch((e: unknown) => (trouble.value = e instanceof Error ? e.message : String(e)))

/** The certificate is read here, and sent with the system. */
function pickCA(file: File): boolean {
  void file.text().then((text) => (form.value.ca = text))
  return false
}
const kindOptions = computed(() => kinds.value.map((k) => ({ value: k.kind, label: k.title })))
const stewardOptions = computed(() => [
  ...stewards.value.map((l) => ({ value: l.name, label: t('systems.stewardOption', { name: l.name, account: l.account }) })),
  ...(session.may('administrator') ? [{ value: newSteward, label: t('systems.newSteward') }] : []),
])
const capital = (text: string) => text.charAt(0).toUpperCase() + text.slice(1)
const ready = computed(
  () =>
    form.value.name &&
    form.value.steward &&
    (!isNew.value || (fresh.value.name && fresh.value.account && (fresh.value.password || fresh.value.key))),
)

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
          steward: isNew.value ? fresh.value.name : (f.steward ?? ''),
          site: f.site,
          environment: f.environment,
          owner: f.owner,
          options: options(),
          trusted_ca: of.value?.proof === 'certificate' ? f.ca : '',
        },
      }),
    )
    emit('done')
    if (!props.stay) await router.push(`/systems/${encodeURIComponent(f.name)}`)
    else added.value = f.name
  } catch (e) {
    trouble.value = e instanceof Error ? e.message : String(e)
  } finally {
    fresh.value.password = ''
    fresh.value.key = ''
    busy.value = false
  }
}
</script>

<template>
  <Form layout="vertical" class="form" :model="form" @finish="add">
    <div class="pair">
      <FormItem :label="t('fields.name')" html-for="system-name"
        ><Input id="system-name" v-model:value="form.name" autocomplete="off"
      /></FormItem>
      <FormItem :label="t('fields.kind')" html-for="system-kind"
        ><Select id="system-kind" v-model:value="form.kind" :options="kindOptions"
      /></FormItem>
      <FormItem :label="t('systems.addressIf')" html-for="system-address"
        ><Input id="system-address" v-model:value="form.address" autocomplete="off"
      /></FormItem>
      <FormItem :label="t('systems.portIf', { port: of?.port })" html-for="system-port"
        ><InputNumber id="system-port" v-model:value="form.port" :min="1" :max="65535" class="whole"
      /></FormItem>
    </div>
    <FormItem :label="t('systems.steward')" html-for="system-steward"
      ><Select id="system-steward" v-model:value="form.steward" :options="stewardOptions" :placeholder="t('systems.choose')"
    /></FormItem>
    <div v-if="isNew" class="pair panel fresh">
      <FormItem :label="t('systems.stewardName')" html-for="fresh-name"
        ><Input id="fresh-name" v-model:value="fresh.name" autocomplete="off"
      /></FormItem>
      <FormItem :label="t('stewards.account')" html-for="fresh-account"
        ><Input id="fresh-account" v-model:value="fresh.account" autocomplete="off"
      /></FormItem>
      <FormItem :label="t('stewards.password')" html-for="fresh-password"
        ><InputPassword id="fresh-password" v-model:value="fresh.password" autocomplete="new-password"
      /></FormItem>
      <FormItem v-if="of?.sign_in.includes('private-key')" :label="t('stewards.orKey')" html-for="fresh-key"
        ><Textarea id="fresh-key" v-model:value="fresh.key" :rows="2" class="mono" autocomplete="off"
      /></FormItem>
    </div>
    <div class="pair">
      <FormItem :label="t('systems.site')" html-for="system-site"><Input id="system-site" v-model:value="form.site" /></FormItem>
      <FormItem :label="t('systems.environment')" html-for="system-environment"
        ><Input id="system-environment" v-model:value="form.environment"
      /></FormItem>
      <FormItem :label="t('fields.owner')" html-for="system-owner"><Input id="system-owner" v-model:value="form.owner" /></FormItem>
      <FormItem v-if="of?.proof === 'certificate'" :label="t('systems.caIf')"
        ><Upload :before-upload="pickCA as never" :max-count="1" accept=".pem,.crt,.cer"
          ><Button>{{ form.ca ? t('systems.caChosen') : t('systems.caChoose') }}</Button></Upload
        ></FormItem
      >
    </div>
    <Collapse v-if="of?.options.length" ghost class="more">
      <CollapsePanel key="options" :header="t('systems.options', of.options.length)">
        <FormItem
          v-for="o in of.options"
          :key="o.name"
          :label="t('systems.optionLabel', { help: capital(o.help), name: o.name })"
          :html-for="`option-${o.name}`"
        >
          <Select
            v-if="o.type === 'choice'"
            :id="`option-${o.name}`"
            v-model:value="settings[o.name]"
            allow-clear
            :placeholder="o.default ?? t('systems.notSet')"
            :options="(o.choices ?? []).map((value) => ({ value, label: value }))"
          />
          <Input v-else :id="`option-${o.name}`" v-model:value="settings[o.name]" :placeholder="o.default" />
        </FormItem>
      </CollapsePanel>
    </Collapse>
    <Trouble :words="trouble" />
    <div class="row">
      <Button type="primary" html-type="submit" :loading="busy" :disabled="!ready">{{ t('systems.addDo') }}</Button>
      <RouterLink v-if="added" :to="`/systems/${encodeURIComponent(added)}`">{{ t('systems.added', { name: added }) }}</RouterLink><span
        v-else
        class="soft"
        >{{ t('systems.thenCheck') }}</span
      >
    </div>
  </Form>
</template>

<style scoped>
.pair {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(220px, 1fr));
  column-gap: 14px;
}
.fresh {
  margin-bottom: 16px;
}
.whole {
  width: 100%;
}
.more {
  margin: -6px 0 10px -16px;
}
</style>
