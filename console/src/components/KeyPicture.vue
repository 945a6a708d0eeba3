<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'

/** A key between the files that hold it and the accounts that it opens. */
const props = defineProps<{ name: string; dependents: Schemas['Dependent'][] }>()
const most = 40
const holders = computed(() => props.dependents.filter((d) => d.kind === 'key'))
const doors = computed(() => props.dependents.filter((d) => d.kind === 'authorized key'))
</script>

<template>
  <div class="panel picture">
    <ul aria-label="Files that hold it">
      <li v-for="d in holders.slice(0, most)" :key="d.id" class="node">
        <RouterLink :to="`/dependents/${d.id}`">{{ d.system }}</RouterLink>
        <div class="soft mono">{{ d.path }}</div>
        <div v-if="d.key?.encrypted" class="soft">a passphrase protects it</div>
      </li>
      <li v-if="!holders.length" class="node none soft">No file that was read holds it: somebody keeps it elsewhere.</li>
      <li v-if="holders.length > most" class="soft">and {{ holders.length - most }} more</li>
    </ul>
    <div class="arrow" aria-hidden="true"></div>
    <div class="node key">
      <b>{{ name }}</b>
    </div>
    <div class="arrow" aria-hidden="true"></div>
    <ul aria-label="Accounts that it opens">
      <li v-for="d in doors.slice(0, most)" :key="d.id" class="node">
        <RouterLink :to="`/dependents/${d.id}`">{{ d.key?.lets || 'an account' }} on {{ d.system }}</RouterLink>
        <div class="soft mono">{{ d.path }}</div>
        <div v-for="o in d.key?.options ?? []" :key="o" class="soft mono">{{ o }}</div>
      </li>
      <li v-if="!doors.length" class="node none soft">No entry that was read lets its holder in.</li>
      <li v-if="doors.length > most" class="soft">and {{ doors.length - most }} more</li>
    </ul>
  </div>
</template>

<style scoped>
.picture {
  display: grid;
  grid-template-columns: minmax(0, 3fr) 40px minmax(0, 2fr) 40px minmax(0, 3fr);
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
