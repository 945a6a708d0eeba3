<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'

/** A key between the files that hold it and the accounts that it opens. */
const props = defineProps<{ name: string; dependents: Schemas['Dependent'][]; shown?: boolean }>()
const most = 40
const holders = computed(() => props.dependents.filter((d) => d.kind === 'key' || d.kind === 'cloud key' || d.kind === 'certificate'))
const doors = computed(() =>
  props.dependents.filter((d) => d.kind === 'authorized key' || d.kind === 'issued key' || d.kind === 'tls port'),
)
</script>

<template>
  <div class="panel picture">
    <ul :aria-label="t('keys.holders')">
      <li v-for="d in holders.slice(0, most)" :key="d.id" class="node">
        <RouterLink :to="`/dependents/${d.id}`">{{ d.system }}</RouterLink>
        <div class="soft mono">{{ d.path }}</div>
        <div v-if="d.key?.encrypted" class="soft">{{ t('keys.protected') }}</div>
      </li>
      <li v-if="!holders.length" class="node none soft">{{ t('keys.noHolder') }}</li>
      <li v-if="holders.length > most" class="soft">{{ t('dependents.more', holders.length - most) }}</li>
    </ul>
    <div class="arrow" aria-hidden="true"></div>
    <div class="node key">
      <b>{{ name }}</b>
    </div>
    <div class="arrow" aria-hidden="true"></div>
    <ul :aria-label="t(shown ? 'keys.shownBy' : 'keys.opens')">
      <li v-for="d in doors.slice(0, most)" :key="d.id" class="node">
        <RouterLink :to="`/dependents/${d.id}`">{{
          d.kind === 'tls port' ? d.system : t('keys.at', { account: d.key?.lets || t('keys.anAccount'), system: d.system })
        }}</RouterLink>
        <div class="soft mono">{{ d.path || d.place }}</div>
        <div v-for="o in d.key?.options ?? []" :key="o" class="soft mono">{{ o }}</div>
      </li>
      <li v-if="!doors.length" class="node none soft">{{ t(shown ? 'keys.noPort' : 'keys.noDoor') }}</li>
      <li v-if="doors.length > most" class="soft">{{ t('dependents.more', doors.length - most) }}</li>
    </ul>
  </div>
</template>

<style scoped>
.picture {
  display: grid;
  grid-template-columns: minmax(0, 5fr) 40px minmax(0, 4fr) 40px minmax(0, 5fr);
  align-items: center;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  gap: 8px;
}
.node {
  border: 1px solid var(--line);
  border-radius: 6px;
  padding: 7px 10px;
  overflow-wrap: anywhere;
}
.key {
  border-width: 2px;
  text-align: center;
}
.none {
  border-style: dashed;
}
.arrow {
  height: 0;
  border-top: 2px solid var(--soft);
  position: relative;
  margin: 0 2px;
}
.arrow::after {
  content: '';
  position: absolute;
  right: 0;
  top: -6px;
  width: 8px;
  height: 8px;
  border-top: 2px solid var(--soft);
  border-right: 2px solid var(--soft);
  transform: rotate(45deg);
}
@media (max-width: 800px) {
  .picture {
    grid-template-columns: 1fr;
    gap: 10px;
  }
  .arrow {
    display: none;
  }
}
</style>
