<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, Problem, type Schemas } from '../api/client'
import LookAgain from '../components/LookAgain.vue'
import StateTag from '../components/StateTag.vue'
import StepList from '../components/StepList.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { useSession } from '../state/session'

const session = useSession()
const id = Number(useRoute().params.id)
const now = ref<Schemas['RotationNow']>()
const journal = ref<Schemas['JournalRecord'][]>([])
const trouble = ref('')
const reason = ref('')
const shown = ref(false)

async function load(): Promise<void> {
  try {
    now.value = await data(api.GET('/api/v1/rotations/{id}', { params: { path: { id } } }))
    if (shown.value) journal.value = (await data(api.GET('/api/v1/rotations/{id}/journal', { params: { path: { id } } }))) ?? []
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())

type Decision = 'stop' | 'resume' | 'go-on' | 'undo' | 'leave-away'
const takes = (decision: Decision): boolean => now.value?.decisions.includes(decision) ?? false

async function decide(decision: Decision): Promise<void> {
  trouble.value = ''
  try {
    now.value = await data(
      api.POST('/api/v1/rotations/{id}/decision', { params: { path: { id } }, body: { decision, reason: reason.value } }),
    )
    reason.value = ''
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  }
}

// Undoing a finished rotation needs what a rotation needs.
const finished = computed(() => r.value?.mode === 'finished' && r.value.result !== 'undo-incomplete')
const rehearsal = ref<Schemas['RehearsalAnswer']>()
const rehearsing = ref(false)
async function rehearse(): Promise<void> {
  trouble.value = ''
  rehearsing.value = true
  try {
    rehearsal.value = await data(api.POST('/api/v1/rotations/{id}/rehearsals', { params: { path: { id } } }))
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  } finally {
    rehearsing.value = false
  }
}
const mayUndo = computed(() => !finished.value || (rehearsal.value?.rehearsal.verdict === 'passed' && reason.value !== ''))
const away = computed(() => now.value?.steps.some((s) => s.status === 'waiting') ?? false)

const r = computed(() => now.value?.rotation)
const stopped = computed(() => r.value?.mode === 'stopped')
const failed = computed(() => r.value?.result === 'done-with-failures')
const done = computed(() => now.value?.steps.filter((s) => s.status === 'done' || s.status === 'later').length ?? 0)

async function toggleJournal(): Promise<void> {
  shown.value = !shown.value
  await load()
}
</script>

<template>
  <template v-if="r && now">
    <div class="row spread">
      <h1>
        {{ r.kind === 'assign' ? 'Assignment' : 'Rotation' }} {{ id }} of
        <RouterLink :to="r.account_id ? `/accounts/${r.account_id}` : `/credentials/${r.credential_id}`">{{ r.credential }}</RouterLink>{{
          ' '
        }}
        <StateTag :state="r.result || r.mode" />
      </h1>
      <Button @click="toggleJournal">{{ shown ? 'Hide the journal' : 'Show the journal' }}</Button>
    </div>
    <p class="soft">
      {{ done }} of {{ now.steps.length }} steps done. Started <When :at="r.started" /> by {{ r.requested_by }}: {{ r.reason }}. When a step
      fails: {{ r.policy }}.<template v-if="r.override"> Started without a rehearsal that passed: {{ r.override }}.</template>
    </p>
    <p v-if="now.proven" class="soft">Of its dependents, {{ now.proven }}.</p>
    <Trouble :words="trouble" />
    <div v-if="session.may('operator') && now.decisions.length" class="panel row decide">
      <b v-if="stopped">It waits for a decision.</b>
      <b v-else-if="failed">It ended with failed steps.</b>
      <input v-model="reason" class="field reason" aria-label="Reason of the decision" placeholder="Reason (recorded)" />
      <Button v-if="takes('stop')" @click="decide('stop')">Stop</Button>
      <Button v-if="takes('resume')" type="primary" @click="decide('resume')">Resume: try failed steps again</Button>
      <Button v-if="stopped && takes('go-on')" @click="decide('go-on')">Go on without failed steps</Button>
      <Button v-if="takes('leave-away') && away" @click="decide('leave-away')">Undo without what is away</Button>
      <Button v-if="finished" :loading="rehearsing" @click="rehearse">Rehearse undoing it</Button>
      <Button v-if="takes('undo') && r.mode !== 'undoing'" danger :disabled="!mayUndo" @click="decide('undo')">Undo everywhere</Button>
    </div>
    <Trouble :words="now.halted" />
    <div v-if="rehearsal" class="panel">
      <p>
        The rehearsal of undoing it <StateTag :state="rehearsal.rehearsal.verdict" />. Expected interruption: {{ rehearsal.interruption }}.
        {{ reason ? '' : 'Give a reason to undo it.' }}
      </p>
      <ul class="found">
        <li v-for="(c, i) in rehearsal.rehearsal.checks.filter((c) => c.result !== 'ok')" :key="i">
          <StateTag :state="c.result" /> {{ c.system }}: {{ c.what }} <span class="soft">{{ c.words }} {{ c.next }}</span>
        </li>
      </ul>
    </div>
    <LookAgain v-if="now.look" :id="id" :look="now.look" @changed="load" />
    <div class="panel"><StepList :steps="now.steps" /></div>
    <template v-if="shown">
      <h2>Journal</h2>
      <div class="panel scroll" tabindex="0" role="region" aria-label="Journal">
        <table class="dense">
          <thead>
            <tr>
              <th scope="col">#</th>
              <th scope="col">Time</th>
              <th scope="col">Event</th>
              <th scope="col">Result</th>
              <th scope="col">Step</th>
              <th scope="col">Words</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="j in journal" :key="j.seq">
              <td>{{ j.seq }}</td>
              <td class="mono">{{ j.time.slice(11, 23) }}</td>
              <td>{{ j.event }}{{ j.undo ? ' (undo)' : '' }}</td>
              <td><StateTag :state="j.result ?? ''" /></td>
              <td>{{ j.title }}</td>
              <td class="soft">{{ j.words }} {{ j.reason }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
  </template>
  <Trouble v-else :words="trouble" retry @again="load" />
</template>

<style scoped>
.found {
  margin: 0;
  padding-left: 18px;
}
.decide {
  margin: 10px 0;
}
.reason {
  flex: 1;
  min-width: 200px;
}
.scroll {
  overflow-x: auto;
}
</style>
