<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, Problem, type Schemas } from '../api/client'
import { manyThings, summary } from '../components/picture'
import RadiusGraph from '../components/RadiusGraph.vue'
import StateTag from '../components/StateTag.vue'
import Trouble from '../components/Trouble.vue'
import { plural } from '../components/words'

const id = Number(useRoute().params.id)
const radius = ref<Schemas['Radius']>()
const account = ref<Schemas['Account']>()
const trouble = ref('')
const busy = ref(false)
const kinds = ['configured', 'held', 'observed', 'declared'] as const
const wanted = ref<(typeof kinds)[number][]>([...kinds])
const mentions = ref(false)
const open = ref(new Set<string>())
const chosen = ref('')
const picture = ref<InstanceType<typeof RadiusGraph>>()
let touched = false

async function load(): Promise<void> {
  busy.value = true
  try {
    account.value ??= (await data(api.GET('/api/v1/accounts/{id}', { params: { path: { id } } }))).account
    radius.value = await data(
      api.GET('/api/v1/accounts/{id}/radius', {
        params: { path: { id }, query: { evidence: wanted.value.length ? wanted.value : ['declared'], mentions: mentions.value } },
      }),
    )
    if (!touched) open.value = new Set(radius.value.graph.nodes.length > manyThings ? [] : radius.value.summary.systems)
    trouble.value = ''
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  } finally {
    busy.value = false
  }
}
void load()
onChanged(() => void load())
watch([wanted, mentions], () => void load(), { deep: true })

const nodes = computed(() => radius.value?.graph.nodes ?? [])
const edges = computed(() => radius.value?.graph.edges ?? [])
const systems = computed(() =>
  (radius.value?.summary.systems ?? []).map((name) => ({ name, list: nodes.value.filter((n) => n.hop > 0 && n.system === name) })),
)
const node = computed(() => nodes.value.find((n) => n.id === chosen.value))
const reasons = computed(() =>
  edges.value.filter((e) => e.to === chosen.value).map((e) => ({ ...e, by: nodes.value.find((n) => n.id === e.from)?.name ?? '' })),
)
const reached = (nodeID: string) => edges.value.filter((e) => e.to === nodeID)

function toggle(system: string): void {
  touched = true
  const next = new Set(open.value)
  if (!next.delete(system)) next.add(system)
  open.value = next
}
function all(show: boolean): void {
  touched = true
  open.value = new Set(show ? radius.value?.summary.systems : [])
}
const shown = ref(200)
const rows = computed(() => nodes.value.filter((n) => n.hop > 0).slice(0, shown.value))
</script>

<template>
  <div class="row spread">
    <h1>
      What would be touched
      <span v-if="account" class="soft"
        >if <RouterLink :to="`/accounts/${id}`">{{ account.name }}</RouterLink> on {{ account.system }} changed</span
      >
    </h1>
    <div class="row">
      <Button size="small" @click="all(true)">Open all systems</Button>
      <Button size="small" @click="all(false)">Close all</Button>
      <Button size="small" @click="picture?.fit()">Whole picture</Button>
    </div>
  </div>
  <Trouble :words="trouble" retry @again="load" />
  <fieldset class="row filters">
    <legend class="visually-hidden">Evidence</legend>
    <span class="soft">Known because</span>
    <label v-for="k in kinds" :key="k"><input v-model="wanted" type="checkbox" :value="k" /> {{ k }}</label>
    <label><input v-model="mentions" type="checkbox" /> also files that only mention it</label>
  </fieldset>
  <template v-if="radius">
    <p>
      <b>{{ plural(radius.summary.direct, 'dependent') }}</b> of its own and {{ radius.summary.further }} further ones on
      {{ plural(radius.summary.systems.length, 'system')
      }}<template v-if="radius.summary.down.length">, <StateTag :state="`${radius.summary.down.length} down already`" as="down" /></template
      >. <span class="soft">How complete this is: {{ radius.words }}.</span
      ><template v-if="radius.graph.more"> There are more than are shown.</template>
    </p>
    <div v-if="nodes.length > 1" class="both">
      <RadiusGraph ref="picture" :nodes="nodes" :edges="edges" :open="open" :chosen="chosen" @choose="chosen = $event" @system="toggle" />
      <aside class="panel" aria-live="polite">
        <template v-if="node && node.hop > 0">
          <b class="break"
            >{{ node.of }} <RouterLink v-if="node.dependent" :to="`/dependents/${node.dependent}`">{{ node.name }}</RouterLink><template
              v-else
              >{{ node.name }}</template
            ></b
          >
          <div class="soft">on {{ node.system }} <StateTag v-if="node.state" :state="node.state" /></div>
          <div v-for="r in reasons" :key="r.from + r.why" class="reason">
            <StateTag :state="r.strength ? `${r.why}: ${r.strength}` : r.why" :as="r.strength" />{{ ' ' }}
            <span class="soft break">{{ r.detail || `of ${r.by}` }}</span>
          </div>
        </template>
        <template v-else>
          <b>Systems</b>
          <div v-for="s in systems" :key="s.name" class="reason">
            <button class="plain-button link" :aria-expanded="open.has(s.name)" @click="toggle(s.name)">
              {{ open.has(s.name) ? '−' : '+' }} {{ s.name }}</button
            >{{ ' ' }}
            <span class="soft">{{ summary(s.list) }}</span>
          </div>
          <p class="soft">Click a box for what it is and why it is there; a system to open or close it.</p>
        </template>
        <Button v-if="node" size="small" @click="chosen = ''">Back to the systems</Button>
      </aside>
    </div>
    <div v-else class="panel soft">
      Nothing is known to use it by this evidence. {{ radius.words }}: what was not read may still use it.
    </div>
    <h2>The same as a list</h2>
    <div class="panel scroll" tabindex="0" role="region" aria-label="The same as a list">
      <table class="dense">
        <thead>
          <tr>
            <th scope="col">System</th>
            <th scope="col">What</th>
            <th scope="col">Name</th>
            <th scope="col">State</th>
            <th scope="col">Steps away</th>
            <th scope="col">How it is known</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="n in rows" :key="n.id">
            <td>{{ n.system }}</td>
            <td>{{ n.of }}</td>
            <td class="mono">
              <RouterLink v-if="n.dependent" :to="`/dependents/${n.dependent}`">{{ n.name }}</RouterLink><template v-else>{{
                n.name
              }}</template>
            </td>
            <td><StateTag :state="n.state ?? ''" /></td>
            <td>{{ n.hop }}</td>
            <td>
              <div v-for="e in reached(n.id)" :key="e.from + e.why">
                <StateTag :state="e.strength ? `${e.why}: ${e.strength}` : e.why" :as="e.strength" />
              </div>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="nodes.length - 1 > rows.length">
        <Button size="small" @click="shown += 500">Show more of {{ nodes.length - 1 }}</Button>
      </p>
    </div>
  </template>
  <p v-else-if="busy" class="soft">Reading the picture…</p>
</template>

<style scoped>
.both {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 290px;
  gap: 12px;
}
.filters {
  border: 0;
  padding: 0;
  margin: 6px 0;
  gap: 14px;
}
.reason {
  margin: 6px 0;
}
.link {
  color: var(--moss);
  text-decoration: underline;
}
.scroll {
  overflow-x: auto;
}
aside {
  max-height: 490px;
  overflow-y: auto;
}
@media (max-width: 1000px) {
  .both {
    grid-template-columns: 1fr;
  }
}
</style>
