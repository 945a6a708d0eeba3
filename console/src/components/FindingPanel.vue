<script setup lang="ts">
import { RouterLink } from 'vue-router'
import type { Schemas } from '../api/client'
import StateTag from './StateTag.vue'

/** Findings about one thing, which is not named again: the gravest ones, and where the others are. */
const props = defineProps<{ findings: Schemas['Finding'][]; about: string; most?: number; more?: string; all?: string }>()
const shown = () => props.findings.slice(0, props.most ?? props.findings.length)
</script>

<template>
  <div v-for="f in shown()" :key="f.id" class="panel finding">
    <StateTag :state="f.severity" />{{ ' ' }}
    <template v-if="f.subject !== about"
      ><RouterLink v-if="f.dependent_id" :to="`/dependents/${f.dependent_id}`">{{ f.subject }}</RouterLink
      ><b v-else>{{ f.subject }}</b
      ><template v-if="f.system"> on {{ f.system }}</template
      >: </template
    >{{ f.what }}
    <div class="soft">{{ f.next_step }}</div>
  </div>
  <p v-if="all && findings.length > shown().length">
    <RouterLink :to="all">{{ more }}</RouterLink>
  </p>
</template>

<style scoped>
.finding {
  margin: 6px 0;
}
</style>
