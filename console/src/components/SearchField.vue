<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, data, type Schemas } from '../api/client'

/** One search over accounts, dependents and systems, as fast as one types. */
const router = useRouter()
const typed = ref('')
const hits = ref<Schemas['Hit'][]>([])
const answered = ref('')
const at = ref(-1)
const open = ref(false)
let turn = 0

async function look(): Promise<void> {
  const mine = ++turn
  const q = typed.value.trim()
  open.value = q !== ''
  at.value = -1
  if (!q) {
    hits.value = []
    return
  }
  const found = await data(api.GET('/api/v1/search', { params: { query: { q, limit: 8 } } })).catch(() => [])
  if (mine !== turn) return // a later letter was faster
  hits.value = found ?? []
  answered.value = q
}
const words = computed(() =>
  answered.value && hits.value.length === 0 ? 'Nothing has these words in its name, place or description.' : '',
)
const path = (h: Schemas['Hit']) => (h.kind === 'system' ? `/systems/${encodeURIComponent(h.name)}` : `/${h.kind}s/${h.id}`)

async function go(h?: Schemas['Hit']): Promise<void> {
  if (!h) return
  open.value = false
  typed.value = ''
  await router.push(path(h))
}
function move(by: number): void {
  if (!hits.value.length) return
  at.value = (at.value + by + hits.value.length) % hits.value.length
}
const leave = () => setTimeout(() => (open.value = false), 150)
</script>

<template>
  <div class="search">
    <input
      v-model="typed"
      class="field"
      type="search"
      placeholder="Search"
      role="combobox"
      aria-label="Search accounts, dependents and systems"
      aria-autocomplete="list"
      aria-controls="search-hits"
      :aria-expanded="open"
      :aria-activedescendant="at >= 0 ? `hit-${at}` : undefined"
      autocomplete="off"
      @input="look"
      @focus="open = typed !== ''"
      @blur="leave"
      @keydown.down.prevent="move(1)"
      @keydown.up.prevent="move(-1)"
      @keydown.enter.prevent="go(hits[Math.max(0, at)])"
      @keydown.esc="open = false"
    />
    <div v-show="open" id="search-hits" class="hits panel" role="listbox" aria-label="Found">
      <div
        v-for="(h, i) in hits"
        :id="`hit-${i}`"
        :key="h.kind + h.id"
        class="hit"
        role="option"
        :aria-selected="i === at"
        :class="{ on: i === at }"
        @mousedown.prevent="go(h)"
        @mousemove="at = i"
      >
        <b>{{ h.name }}</b> <span class="soft">{{ h.kind === 'dependent' || h.kind === 'system' ? h.of : h.kind }} on {{ h.system }}</span>
        <div v-if="h.detail && h.detail !== h.name" class="soft small">{{ h.detail }}</div>
      </div>
    </div>
    <div v-if="open && words" class="hits panel soft" role="status">{{ words }}</div>
  </div>
</template>

<style scoped>
.search {
  position: relative;
  padding: 0 12px 10px;
}
.field {
  width: 100%;
}
.hits {
  position: absolute;
  left: 12px;
  top: 34px;
  width: 460px;
  max-height: 70vh;
  overflow-y: auto;
  z-index: 20;
  padding: 6px;
  box-shadow: 0 6px 24px rgb(0 0 0 / 25%);
}
.hit {
  padding: 5px 8px;
  border-radius: 4px;
  cursor: pointer;
  overflow-wrap: anywhere;
}
.hit.on {
  background: var(--good-bg);
}
.small {
  font-size: 12px;
}
</style>
