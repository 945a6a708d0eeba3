<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, Problem, type Schemas } from '../api/client'
import StateTag from '../components/StateTag.vue'
import SocketTable from '../components/SocketTable.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { useSession } from '../state/session'

const session = useSession()
const route = useRoute()
const router = useRouter()
const name = String(route.params.name)
const system = ref<Schemas['System']>()
const trouble = ref('')
const busy = ref('')

async function load(): Promise<void> {
  try {
    system.value = await data(api.GET('/api/v1/systems/{name}', { params: { path: { name } } }))
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())

async function work(what: string, act: () => Promise<unknown>): Promise<void> {
  busy.value = what
  trouble.value = ''
  try {
    await act()
    await load()
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  } finally {
    busy.value = ''
  }
}

const check = () => work('check', () => data(api.POST('/api/v1/systems/{name}/check', { params: { path: { name } } })))
const approve = (fingerprint: string) =>
  work('approve', () => data(api.POST('/api/v1/systems/{name}/host-key', { params: { path: { name } }, body: { fingerprint } })))
const survey = () =>
  work('survey', async () => {
    const started = await data(api.POST('/api/v1/surveys', { body: { systems: [name] } }))
    await router.push(`/surveys/${started.id}`)
  })

/** The key that a failed check saw and that is not approved yet. */
const offered = computed(() => {
  const failed = system.value?.stages.find((s) => !s.ok && (s.code === 'new-host-key' || s.code === 'untrusted'))
  return failed ? (/SHA256:[A-Za-z0-9+/]+/.exec(failed.detail ?? '')?.[0] ?? '') : ''
})
</script>

<template>
  <div class="row spread">
    <h1>{{ name }} <StateTag v-if="system" :state="system.state" /></h1>
    <div class="row">
      <Button v-if="session.may('operator') || session.may('administrator')" :loading="busy === 'check'" @click="check">Check</Button>
      <Button v-if="session.may('operator')" type="primary" :loading="busy === 'survey'" @click="survey">Survey this system</Button>
    </div>
  </div>
  <Trouble :words="trouble" />
  <template v-if="system">
    <div v-if="system.waits_for_approval" class="panel warn">
      <p>
        <b>Nothing secret is sent there.</b> Where its secrets go was given or changed, and waits for somebody's approval:
        <RouterLink to="/approvals?f=state=asked">approval {{ system.waits_for_approval }}</RouterLink
        >.
      </p>
    </div>
    <div v-if="offered" class="panel warn">
      <p>
        <b>A host key waits for approval.</b> Compare it on the host itself (<code>ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub</code>).
        Nothing is read or changed there before.
      </p>
      <div class="row">
        <code class="break">{{ offered }}</code><Button
          v-if="session.may('approver')"
          type="primary"
          :loading="busy === 'approve'"
          @click="approve(offered)"
          >It is the same: approve</Button
        >
      </div>
    </div>
    <div class="two">
      <section>
        <h2>What it is</h2>
        <dl class="facts panel">
          <dt>Kind</dt>
          <dd>{{ system.kind }}</dd>
          <dt>Address</dt>
          <dd class="mono">{{ system.address }}{{ system.port ? ':' + system.port : '' }}</dd>
          <dt>Steward</dt>
          <dd>{{ system.steward }}</dd>
          <template v-if="system.site"
            ><dt>Site</dt>
            <dd>{{ system.site }}</dd></template
          >
          <template v-if="system.environment"
            ><dt>Environment</dt>
            <dd>{{ system.environment }}</dd></template
          >
          <template v-if="system.owner"
            ><dt>Owner</dt>
            <dd>{{ system.owner }}</dd></template
          >
          <template v-for="(setting, option) in system.options" :key="option"
            ><dt>Option {{ option }}</dt>
            <dd class="mono">{{ setting }}</dd></template
          >
          <template v-if="system.facts.flavor"
            ><dt>Software</dt>
            <dd>{{ system.facts.flavor }}</dd></template
          >
          <template v-if="system.facts.domains?.length"
            ><dt>Domains</dt>
            <dd>{{ system.facts.domains.join(', ') }}</dd></template
          >
          <template v-if="system.facts.trusts?.length"
            ><dt>Trusts</dt>
            <dd>{{ system.facts.trusts.map((trust) => trust.names?.join(', ')).join('; ') }}</dd></template
          >
          <template v-if="system.facts.identity"
            ><dt>Identity</dt>
            <dd class="mono">{{ system.facts.identity }}</dd></template
          >
          <template v-if="system.host_keys.length"
            ><dt>Approved host key</dt>
            <dd class="mono">{{ system.host_keys.join(', ') }}</dd></template
          >
          <template v-if="system.trusted"
            ><dt>Secrets may go there</dt>
            <dd>{{ system.trusted }}</dd></template
          >
          <template v-if="system.facts.booted"
            ><dt>Started</dt>
            <dd><When :at="system.facts.booted" /></dd
          ></template>
          <template v-if="system.facts.reboot"
            ><dt>Restart is due</dt>
            <dd>{{ system.facts.reboot }}</dd></template
          >
          <template v-if="system.facts.clock_off"
            ><dt>Clock</dt>
            <dd>off by {{ Math.round(system.facts.clock_off / 1e9) }} s</dd></template
          >
          <template v-if="system.facts.certificate"
            ><dt>Certificate</dt>
            <dd>{{ system.facts.certificate }}</dd></template
          >
          <dt>Read completely</dt>
          <dd><When v-if="system.read_completely" :at="system.read_completely" /><span v-else>never</span></dd>
        </dl>
        <p>
          <RouterLink :to="{ path: '/accounts', query: { f: `system=${name}` } }">Its accounts</RouterLink> ·
          <RouterLink :to="{ path: '/dependents', query: { f: `system=${name}` } }">Its dependents</RouterLink>
        </p>
      </section>
      <section>
        <h2>Latest attempt, stage by stage</h2>
        <div class="panel">
          <table v-if="system.stages.length" class="dense">
            <thead>
              <tr>
                <th scope="col">Stage</th>
                <th scope="col">Result</th>
                <th scope="col">Time</th>
                <th scope="col">What was found</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="s in system.stages" :key="s.stage">
                <td>{{ s.stage }}</td>
                <td><StateTag :state="s.ok ? 'ok' : 'failed'" /></td>
                <td>{{ (s.took / 1e6).toFixed(1) }} ms</td>
                <td>
                  {{ s.detail }}
                  <div v-if="s.next" class="soft">{{ s.next }}</div>
                </td>
              </tr>
            </tbody>
          </table>
          <p v-else class="soft">Not tried yet. Press Check.</p>
        </div>
      </section>
    </div>
    <SocketTable :system="name" />
  </template>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 2fr) minmax(0, 3fr);
  gap: 16px;
}
.warn {
  border-color: var(--warn);
  margin-top: 10px;
}
@media (max-width: 1000px) {
  .two {
    grid-template-columns: 1fr;
  }
}
</style>
