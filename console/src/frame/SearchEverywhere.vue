<script setup lang="ts">
import { AutoComplete, Input, Modal } from 'ant-design-vue'
import { computed, nextTick, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import { useSession } from '../state/session'
import { t } from '../texts'
import { groups } from './places'

/** One search over accounts, dependents, systems and what one can do here: Ctrl-K. */
const open = defineModel<boolean>('open', { required: true })
interface Choice {
  value: string
  name: string
  detail?: string
  under?: string
}
const router = useRouter()
const session = useSession()
const typed = ref('')
const answered = ref('')
const hits = ref<Schemas['Hit'][]>([])
const trouble = ref('')
const box = ref<{ focus: () => void }>()
let turn = 0

watch(
  open,
  async (now) => {
    if (!now) return
    typed.value = ''
    hits.value = []
    answered.value = ''
    await nextTick()
    window.setTimeout(() => box.value?.focus(), 30)
  },
  { immediate: true },
)

async function look(text: string): Promise<void> {
  const mine = ++turn
  const q = text.trim()
  if (!q) {
    hits.value = []
    answered.value = ''
    return
  }
  try {
    const found = await data(api.GET('/api/v1/search', { params: { query: { q, limit: 30 } } }))
    if (mine !== turn) return // a later letter was faster
    hits.value = found ?? []
    trouble.value = ''
  } catch (e) {
    if (mine !== turn) return
    trouble.value = e instanceof Error ? e.message : String(e)
  }
  answered.value = q
}

const path = (h: Schemas['Hit']) => (h.kind === 'system' ? `/systems/${encodeURIComponent(h.name)}` : `/${h.kind}s/${h.id}`)

const commands = computed<Choice[]>(() => {
  const all: (Choice & { roles?: string[] })[] = [
    ...groups.flatMap((g) =>
      g.places.map((p) => ({ value: p.path, name: t(`places.${p.name}`), detail: t('search.page'), roles: p.roles })),
    ),
    { value: '/systems?do=add', name: t('search.addSystem'), roles: ['operator', 'administrator'] },
    { value: '/systems?do=import', name: t('search.importSystems'), roles: ['operator', 'administrator'] },
    { value: '/surveys?do=survey', name: t('search.survey'), roles: ['operator'] },
    { value: '/people?do=add', name: t('search.addPerson'), roles: ['administrator'] },
    { value: '/stewards?do=add', name: t('search.addSteward'), roles: ['administrator'] },
    { value: '/tokens?do=add', name: t('search.addToken') },
    { value: '/yourself', name: t('search.password') },
  ]
  const words = typed.value.toLowerCase().split(/\s+/).filter(Boolean)
  return all
    .filter((c) => !c.roles || c.roles.some((r) => session.may(r)))
    .filter((c) => words.every((w) => c.name.toLowerCase().includes(w)))
    .slice(0, words.length ? 6 : 20)
})

const options = computed(() => {
  const out: { label: string; options: Choice[] }[] = []
  for (const kind of ['account', 'system', 'dependent', 'credential']) {
    const list = hits.value.filter((h) => h.kind === kind)
    if (list.length)
      out.push({
        label: t(`search.group.${kind}`),
        options: list.map((h) => ({
          value: path(h),
          name: h.name,
          detail: kind === 'system' ? h.of : t('search.on', { what: kind === 'dependent' ? h.of : kind, system: h.system }),
          under: h.detail && h.detail !== h.name ? h.detail : undefined,
        })),
      })
  }
  if (commands.value.length) out.push({ label: t('search.group.command'), options: commands.value })
  return out
})
const nothing = computed(() => answered.value !== '' && !hits.value.length)

function go(to: unknown): void {
  open.value = false
  void router.push(String(to))
}
</script>

<template>
  <Modal
    v-model:open="open"
    :footer="null"
    :closable="false"
    :width="640"
    :title="undefined"
    wrap-class-name="search-everywhere"
    destroy-on-close
  >
    <AutoComplete
      v-if="open"
      v-model:value="typed"
      class="box"
      open
      default-active-first-option
      :options="options as never"
      :aria-label="t('search.label')"
      :list-height="420"
      :get-popup-container="(node: HTMLElement) => node.parentElement!"
      :dropdown-match-select-width="true"
      @search="look"
      @select="go"
      @keydown.esc="open = false"
    >
      <template #option="item">
        <template v-if="item.options">{{ item.label }}</template>
        <div v-else class="hit">
          <div class="one">
            <b>{{ item.name }}</b> <span class="soft">{{ item.detail }}</span>
          </div>
          <div v-if="item.under" class="soft small one">{{ item.under }}</div>
        </div>
      </template>
      <Input ref="box" size="large" :placeholder="t('search.placeholder')" autocomplete="off" />
    </AutoComplete>
    <p v-if="trouble" class="soft foot" role="alert">{{ trouble }}</p>
    <p v-else class="soft foot" role="status">{{ nothing ? t('search.nothing', { words: answered }) : t('search.keys') }}</p>
  </Modal>
</template>

<style scoped>
.box {
  width: 100%;
}
.hit {
  padding: 1px 0;
}
.one {
  overflow: hidden;
  text-overflow: ellipsis;
}
.small {
  font-size: 12px;
}
.foot {
  margin: 442px 0 0;
  font-size: 12.5px;
}
</style>
