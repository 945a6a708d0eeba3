<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, Problem, type Schemas } from '../api/client'
import StateTag from '../components/StateTag.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { plural } from '../components/words'
import { useSession } from '../state/session'

const session = useSession()
const router = useRouter()
const counts = ref<Schemas['Overview']>()
const findings = ref<Schemas['Finding'][]>([])
const rotations = ref<Schemas['Rotation'][]>([])
const trouble = ref('')
const busy = ref(false)

async function load(): Promise<void> {
  try {
    counts.value = await data(api.GET('/api/v1/overview'))
    findings.value = (await data(api.GET('/api/v1/findings', { params: { query: { limit: 8 } } }))).items
    rotations.value = (await data(api.GET('/api/v1/rotations', { params: { query: { limit: 6 } } }))).items
    trouble.value = ''
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())

async function survey(): Promise<void> {
  busy.value = true
  try {
    const started = await data(api.POST('/api/v1/surveys', { body: {} }))
    await router.push(`/surveys/${started.id}`)
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  } finally {
    busy.value = false
  }
}

const read = computed(() => counts.value?.system_states.ok ?? 0)
const share = computed(() => (counts.value?.systems ? (100 * read.value) / counts.value.systems : 0))
const open = computed(() => Object.values(counts.value?.findings ?? {}).reduce((a, b) => a + b, 0))
</script>

<template>
  <div class="row spread">
    <h1>Overview</h1>
    <Button v-if="session.may('operator') && counts?.systems" type="primary" :loading="busy" @click="survey">Survey all systems</Button>
  </div>
  <Trouble :words="trouble" retry @again="load" />
  <div v-if="counts && !counts.systems" class="panel start">
    <h2>Start here</h2>
    <ol>
      <li>Store the account by which your systems are reached: <code>moss steward add hosts --account mossmgr --key-file KEY</code></li>
      <li>Add a directory and hosts: <code>moss system add</code>, or many from a list: <code>moss system import hosts.csv</code></li>
      <li>Check them and approve their host keys: <code>moss system check --all</code></li>
      <li>Survey: the button appears here as soon as there are systems.</li>
    </ol>
  </div>
  <div v-else-if="counts" class="tiles">
    <RouterLink class="panel tile" to="/systems"
      ><b>{{ read }} of {{ counts.systems }}</b
      ><span>systems read completely</span> <span class="meter" aria-hidden="true"><span :style="{ width: share + '%' }"></span></span
    ></RouterLink>
    <RouterLink class="panel tile" to="/accounts"
      ><b>{{ counts.accounts }}</b
      ><span>accounts, {{ counts.custody }} credentials in custody</span></RouterLink
    >
    <RouterLink class="panel tile" to="/dependents"
      ><b>{{ counts.dependents }}</b
      ><span>dependents, {{ counts.tied }} tied to an account</span></RouterLink
    >
    <RouterLink class="panel tile" to="/findings"
      ><b>{{ open }}</b
      ><span>{{ open === 1 ? 'finding needs' : 'findings need' }} a person, {{ counts.findings.high ?? 0 }} of them high</span></RouterLink
    >
    <RouterLink class="panel tile" :to="{ path: '/accounts', query: { f: ['never_expires=true', 'enabled=yes'] } }"
      ><b>{{ counts.never_expires }}</b
      ><span>{{ counts.never_expires === 1 ? 'usable password never expires' : 'usable passwords never expire' }}</span></RouterLink
    >
  </div>
  <div v-if="counts?.systems" class="two">
    <section>
      <h2>Findings</h2>
      <div class="panel">
        <table v-if="findings.length" class="dense">
          <thead>
            <tr>
              <th scope="col">Severity</th>
              <th scope="col">What</th>
              <th scope="col">Where</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="f in findings" :key="f.id">
              <td><StateTag :state="f.severity" /></td>
              <td>
                <RouterLink v-if="f.dependent_id" :to="`/dependents/${f.dependent_id}`">{{ f.subject }}</RouterLink><RouterLink
                  v-else-if="f.account_id"
                  :to="`/accounts/${f.account_id}`"
                  >{{ f.subject }}</RouterLink
                ><b v-else>{{ f.subject }}</b>
                <div class="soft">{{ f.what }}</div>
              </td>
              <td>{{ f.system }}</td>
            </tr>
          </tbody>
        </table>
        <p v-else class="soft">Nothing needs you.</p>
        <RouterLink v-if="open > findings.length" to="/findings">All {{ plural(open, 'finding') }}</RouterLink>
      </div>
    </section>
    <section>
      <h2>Recent rotations</h2>
      <div class="panel">
        <table v-if="rotations.length" class="dense">
          <thead>
            <tr>
              <th scope="col">Account</th>
              <th scope="col">Result</th>
              <th scope="col">Started</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="r in rotations" :key="r.id">
              <td>
                <RouterLink :to="`/rotations/${r.id}`">{{ r.credential }}</RouterLink> <span class="soft">{{ r.authority }}</span>
              </td>
              <td><StateTag :state="r.result || r.mode" /></td>
              <td><When :at="r.started" /></td>
            </tr>
          </tbody>
        </table>
        <p v-else class="soft">No rotation yet. Take an account into custody on its page, rehearse, then rotate.</p>
      </div>
    </section>
  </div>
</template>

<style scoped>
.tiles {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(190px, 1fr));
  gap: 12px;
  margin-top: 14px;
}
.tile {
  display: grid;
  gap: 2px;
  color: inherit;
  text-decoration: none;
  align-content: start;
}
.tile:hover {
  border-color: var(--moss);
}
.tile b {
  font-size: 22px;
  font-weight: 600;
}
.tile span {
  color: var(--soft);
}
.meter {
  background: var(--plain-bg);
  height: 5px;
  border-radius: 3px;
  margin-top: 6px;
}
.meter span {
  display: block;
  height: 5px;
  border-radius: 3px;
  background: var(--moss);
}
.two {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 16px;
}
.start {
  margin-top: 14px;
}
@media (max-width: 1000px) {
  .two {
    grid-template-columns: 1fr;
  }
}
</style>
