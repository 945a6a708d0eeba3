<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import StateTag from './StateTag.vue'
import { moment } from './words'

const props = defineProps<{ explanation: Schemas['Explanation'] }>()
const weak = ['ruled out', 'not known']
const strong = computed(() => props.explanation.causes.filter((c) => !weak.includes(c.verdict)))
const others = computed(() =>
  weak
    .map((verdict) => ({ verdict, causes: props.explanation.causes.filter((c) => c.verdict === verdict) }))
    .filter((g) => g.causes.length),
)
</script>

<template>
  <ol class="causes">
    <li v-for="c in strong" :key="c.code">
      <div class="row">
        <StateTag :state="c.verdict" /> <b>{{ c.title }}</b>
      </div>
      <div v-for="e in c.evidence" :key="e" class="break">{{ e }}</div>
      <div v-if="c.next_step" class="soft">Next: {{ c.next_step }}</div>
    </li>
  </ol>
  <p v-if="!strong.length" class="soft">Nothing speaks for any cause.</p>
  <details v-for="g in others" :key="g.verdict">
    <summary>{{ g.verdict }}: {{ g.causes.length }}</summary>
    <div v-for="c in g.causes" :key="c.code">
      <b>{{ c.title }}</b> <span class="soft">{{ c.evidence.join('; ') }}</span>
    </div>
  </details>
  <details v-if="explanation.records.length">
    <summary>Event records: {{ explanation.records.length }}</summary>
    <div class="scroll" tabindex="0" role="region" aria-label="Event records">
      <table class="dense">
        <thead>
          <tr>
            <th scope="col">Time</th>
            <th scope="col">Record</th>
            <th scope="col">Words</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(r, i) in explanation.records" :key="i">
            <td class="keep">{{ moment(r.time) }}</td>
            <td>{{ r.code || r.source }}</td>
            <td>
              {{ r.words }}<span v-if="r.by" class="soft"> ({{ r.by }})</span>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </details>
</template>

<style scoped>
.causes {
  list-style: none;
  margin: 0;
  padding: 0;
}
.causes li {
  padding: 6px 0;
  border-bottom: 1px solid var(--line);
}
details {
  margin-top: 8px;
}
summary {
  cursor: pointer;
}
.scroll {
  overflow-x: auto;
  max-height: 320px;
}
</style>
