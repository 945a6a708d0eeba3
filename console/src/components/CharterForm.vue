<script setup lang="ts">
import { Button, Collapse, CollapsePanel, Drawer, Form, FormItem, Select, Textarea } from 'ant-design-vue'
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import AccountSelect from './AccountSelect.vue'
import { nameOf, schemaHelp } from './charters'
import CharterPreview from './CharterPreview.vue'
import PlainTable from './PlainTable.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** A charter is written; what it would come to is shown beside it as one types, and then it is kept. */
const props = defineProps<{ of?: Schemas['Charter'] }>()
const emit = defineEmits<{ done: [words: string, name: string]; close: [] }>()
const document = ref(props.of?.document ?? '')
const preview = ref<Schemas['CharterPreview']>()
const looking = ref(false)
const { busy, trouble, work } = useWork()

let timer: number | undefined
let turn = 0
async function look(): Promise<void> {
  const mine = ++turn
  if (!document.value.trim()) {
    preview.value = undefined
    return
  }
  looking.value = true
  try {
    const got = await data(api.POST('/api/v1/charters/preview', { body: { document: document.value } }))
    if (mine === turn) preview.value = got
  } catch (e) {
    if (mine === turn) trouble.value = e instanceof Error ? e.message : String(e)
  } finally {
    if (mine === turn) looking.value = false
  }
}
watch(
  document,
  () => {
    window.clearTimeout(timer)
    timer = window.setTimeout(() => void look(), 500)
  },
  { immediate: true },
)
onBeforeUnmount(() => window.clearTimeout(timer))

const save = () =>
  work('save', async () => {
    const name = nameOf(document.value)
    const kept = await data(
      api.PUT('/api/v1/charters/{name}', {
        params: { path: { name } },
        body: { document: document.value, version: props.of?.name === name ? props.of.version : 0 },
      }),
    )
    emit('done', t('charters.saved', { name: kept.name, n: kept.version }), kept.name)
  })

const ready = ref<Schemas['Ready'][]>([])
const begun = ref('')
const account = ref<number>()
const choices = computed(() => [
  { value: '', label: t('charters.readyNone') },
  ...ready.value.map((r) => ({ value: r.name, label: `${r.name} · ${r.description}` })),
])
const begin = (name: unknown) => (document.value = ready.value.find((r) => r.name === name)?.document ?? '')
const draft = () =>
  work('draft', async () => {
    const made = await data(api.POST('/api/v1/charters/draft', { body: { name: 'drafted', accounts: [account.value!] } }))
    document.value = made.document
  })
const help = ref<{ field: string; means: string }[]>([])
void work('choices', async () => {
  const [r, schema] = await Promise.all([data(api.GET('/api/v1/charters/ready')), data(api.GET('/api/v1/charters/schema'))])
  ready.value = r ?? []
  help.value = schemaHelp(schema)
})
const columns = [
  { key: 'field', title: t('charters.helpField'), content: 'place' as const },
  { key: 'means', title: t('charters.helpMeans'), content: 'text' as const },
]
const problems = [
  { key: 'line', title: t('charters.line'), content: 'number' as const, width: 64 },
  { key: 'place', title: t('charters.place'), content: 'place' as const },
  { key: 'what', title: t('charters.problems'), content: 'text' as const },
]
const sound = computed(() => !!preview.value && !preview.value.problems.length && !looking.value)
</script>

<template>
  <Drawer open width="min(1100px, 100vw)" :title="of ? t('charters.change', { name: of.name }) : t('charters.add')" @close="emit('close')">
    <div class="two">
      <Form layout="vertical">
        <template v-if="!of">
          <FormItem :label="t('charters.ready')" html-for="charter-ready"
            ><Select id="charter-ready" v-model:value="begun" show-search :options="choices" @change="begin"
          /></FormItem>
          <FormItem :label="t('charters.fromAccounts')"
            ><div class="row">
              <AccountSelect v-model="account" class="grow" :label="t('charters.fromAccounts')" :empty="t('accounts.empty')" />
              <Button :disabled="!account" :loading="busy === 'draft'" @click="draft">{{ t('charters.draft') }}</Button>
            </div></FormItem
          >
        </template>
        <FormItem :label="t('charters.document')" html-for="charter-document"
          ><Textarea id="charter-document" v-model:value="document" class="mono" :rows="24" :maxlength="65536" spellcheck="false"
        /></FormItem>
        <Trouble :words="trouble" />
        <div class="row">
          <Button type="primary" :disabled="!sound" :loading="busy === 'save'" @click="save">{{ t('charters.save') }}</Button>
          <span v-if="looking" class="soft">{{ t('charters.looking') }}</span>
        </div>
      </Form>
      <section aria-live="polite">
        <PlainTable
          v-if="preview?.problems.length"
          :label="t('charters.problems')"
          :columns="problems"
          :rows="preview.problems"
          :row-key="(_, i) => i"
        />
        <CharterPreview v-else-if="preview" :preview="preview" />
        <Collapse ghost :default-active-key="of ? [] : ['help']">
          <CollapsePanel key="help" :header="t('charters.help')">
            <PlainTable :label="t('charters.help')" :columns="columns" :rows="help" :row-key="(f) => f.field" />
          </CollapsePanel>
        </Collapse>
      </section>
    </div>
  </Drawer>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(420px, 100%), 1fr));
  gap: 20px;
}
.grow {
  flex: 1 1 auto;
}
</style>
