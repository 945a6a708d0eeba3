<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, data, Problem, type Schemas } from '../api/client'
import { grouped, groupings } from '../components/groups'
import Trouble from '../components/Trouble.vue'
import { moment, plural } from '../components/words'

const most = 20000
const route = useRoute()
const list = (v: unknown): string[] => (Array.isArray(v) ? v : v === undefined || v === null ? [] : [v]).map(String)
const by = list(route.query.group)[0] ?? 'system'
const rows = ref<Schemas['Dependent'][]>([])
const loading = ref(true)
const trouble = ref('')
const made = new Date().toISOString()

async function load(): Promise<void> {
  try {
    let cursor: string | undefined
    do {
      const page = await data(
        api.GET('/api/v1/dependents', {
          params: { query: { filter: list(route.query.f), search: list(route.query.q)[0], limit: 500, cursor } },
        }),
      )
      rows.value = rows.value.concat(page.items)
      cursor = page.next
    } while (cursor && rows.value.length < most)
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  } finally {
    loading.value = false
  }
}
void load()
const groups = computed(() => grouped(rows.value, by))
const title = groupings.find((g) => g.value === by)?.text ?? by
const print = (): void => window.print()
</script>

<template>
  <div class="sheet">
    <div class="row spread">
      <h1>Dependents by {{ title }}</h1>
      <button class="field no-print" @click="print">Print</button>
    </div>
    <p class="soft">
      {{ plural(rows.length, 'dependent') }} in {{ plural(groups.length, 'group') }}, as of {{ moment(made)
      }}<template v-if="list(route.query.f).length || route.query.q"
        >; only those with {{ [...list(route.query.f), ...list(route.query.q)].join(', ') }}</template
      >.
    </p>
    <Trouble :words="trouble" />
    <p v-if="loading" class="soft">Loading… {{ rows.length }}</p>
    <p v-else-if="!rows.length && !trouble" class="soft">Nothing matches.</p>
    <section v-for="g in groups" :key="g.name">
      <h2>
        {{ g.name }} <span class="soft">({{ g.rows.length }})</span>
      </h2>
      <table class="dense">
        <thead>
          <tr>
            <th v-if="by !== 'system'" scope="col">System</th>
            <th scope="col">Kind</th>
            <th scope="col">Place</th>
            <th scope="col">Runs as</th>
            <th scope="col">State</th>
            <th scope="col">Start</th>
            <th scope="col">Done</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="d in g.rows" :key="d.id">
            <td v-if="by !== 'system'">{{ d.system }}</td>
            <td>{{ d.kind }}</td>
            <td class="mono">{{ d.place }}</td>
            <td>{{ d.runs_as }}</td>
            <td>{{ d.state }}</td>
            <td>{{ d.start_mode }}</td>
            <td><span class="tick" aria-label="to tick" role="img" /></td>
          </tr>
        </tbody>
      </table>
    </section>
  </div>
</template>

<style scoped>
.sheet {
  width: min(1000px, 100vw - 40px);
  margin: 20px auto;
  align-self: start;
}
section {
  break-inside: avoid-page;
}
.tick {
  display: inline-block;
  width: 13px;
  height: 13px;
  border: 1px solid var(--soft);
  border-radius: 2px;
}
@media print {
  .no-print {
    display: none;
  }
  .sheet {
    width: auto;
    margin: 0;
  }
}
</style>
