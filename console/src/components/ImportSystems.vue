<script setup lang="ts">
import { Alert, Button, Form, FormItem, Select, Textarea, Upload } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Many systems from a list, with what is wrong in it by line and column. */
const emit = defineEmits<{ done: [] }>()
const list = ref('')
const stewards = ref<Schemas['Steward'][]>([])
const steward = ref('')
const windows = ref('')
const signin = ref<'ntlm' | 'kerberos' | 'basic'>('ntlm')
const ca = ref('')
const done = ref<Schemas['Import']>()
const { busy, trouble, work } = useWork()

void work('stewards', async () => {
  stewards.value = (await data(api.GET('/api/v1/stewards', { params: { query: { limit: 500 } } }))).items
})
const options = computed(() => [
  { value: '', label: t('systems.asList') },
  ...stewards.value.map((l) => ({ value: l.name, label: l.name })),
])
const ways = [
  { value: 'ntlm', label: 'NTLM' },
  { value: 'kerberos', label: 'Kerberos' },
  { value: 'basic', label: 'Basic' },
]

/** A file is read here and not sent as one. */
function pick(file: File, into: (text: string) => void): boolean {
  void file.text().then(into)
  return false
}
const run = () =>
  work('import', async () => {
    const body = {
      list: list.value,
      steward: steward.value,
      windows_steward: windows.value,
      windows_signin: signin.value,
      windows_ca: ca.value,
    }
    done.value = await data(api.POST('/api/v1/systems/import', { body }))
    emit('done')
  })
const problems = computed(() => [
  ...(done.value?.problems ?? []).map((p) => ({ ...p, taken: false })),
  ...(done.value?.warnings ?? []).map((p) => ({ ...p, taken: true })),
])
const columns = [
  { key: 'line', title: t('systems.line'), width: 60 },
  { key: 'column', title: t('systems.column'), width: 110 },
  { key: 'text', title: t('systems.text'), content: 'place' as const, width: 150 },
  { key: 'what', title: t('systems.wrong'), content: 'text' as const },
]
</script>

<template>
  <Form :model="{}" layout="vertical" class="import" @finish="run">
    <FormItem :label="t('systems.list')" html-for="import-list" :extra="t('systems.listHelp')"
      ><Textarea id="import-list" v-model:value="list" :rows="8" class="mono"
    /></FormItem>
    <FormItem
      ><Upload :before-upload="((file: File) => pick(file, (text) => (list = text))) as never" :show-upload-list="false" accept=".csv,.txt"
        ><Button>{{ t('systems.fromFile') }}</Button></Upload
      ></FormItem
    >
    <div class="pair">
      <FormItem :label="t('systems.unixSteward')" html-for="import-unix"
        ><Select id="import-unix" v-model:value="steward" :options="options"
      /></FormItem>
      <FormItem :label="t('systems.windowsSteward')" html-for="import-windows"
        ><Select id="import-windows" v-model:value="windows" :options="options"
      /></FormItem>
      <FormItem :label="t('systems.windowsBy')" html-for="import-by"
        ><Select id="import-by" v-model:value="signin" :options="ways"
      /></FormItem>
      <FormItem :label="t('systems.windowsCA')"
        ><Upload :before-upload="((file: File) => pick(file, (text) => (ca = text))) as never" :max-count="1" accept=".pem,.crt,.cer"
          ><Button>{{ ca ? t('systems.caChosen') : t('systems.caChoose') }}</Button></Upload
        ></FormItem
      >
    </div>
    <Trouble :words="trouble" />
    <Button type="primary" html-type="submit" :loading="busy === 'import'" :disabled="!list.trim()">{{ t('systems.importDo') }}</Button>
    <template v-if="done">
      <Alert
        class="done"
        :type="done.problems.length ? 'warning' : 'success'"
        show-icon
        role="status"
        :message="
          t('systems.imported', {
            added: t('n.systems', done.added.length),
            known: done.known.length,
            problems: t('n.rows', done.problems.length),
          })
        "
      />
      <PlainTable v-if="problems.length" :label="t('systems.wrong')" :columns="columns" :rows="problems" :row-key="(_, i) => i" :size="50">
        <template #what="{ row }"
          >{{ row.what }} <span v-if="!row.taken" class="soft">{{ t('systems.notTaken') }}</span></template
        >
      </PlainTable>
    </template>
  </Form>
</template>

<style scoped>
.pair {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(220px, 1fr));
  column-gap: 14px;
}
.done {
  margin: 12px 0;
}
</style>
