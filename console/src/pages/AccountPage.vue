<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, Problem, type Schemas } from '../api/client'
import CredentialCustody from '../components/CredentialCustody.vue'
import Evidence from '../components/Evidence.vue'
import RotatePanel from '../components/RotatePanel.vue'
import { chainsAround, startedOf, type Started } from '../components/order'
import StartOrder from '../components/StartOrder.vue'
import RotationHistory from '../components/RotationHistory.vue'
import FindingPanel from '../components/FindingPanel.vue'
import StateTag from '../components/StateTag.vue'
import UsesPanel from '../components/UsesPanel.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { moment, plural } from '../components/words'
import { useSession } from '../state/session'

const session = useSession()
const id = Number(useRoute().params.id)
const detail = ref<Schemas['AccountDetail']>()
const dependents = ref<Schemas['Dependent'][]>([])
const total = ref(0)
const history = ref<Schemas['Rotation'][]>([])
const findings = ref<Schemas['Finding'][]>([])
const trouble = ref('')

async function load(): Promise<void> {
  try {
    detail.value = await data(api.GET('/api/v1/accounts/{id}', { params: { path: { id } } }))
    const page = await data(api.GET('/api/v1/dependents', { params: { query: { account: id, limit: 200 } } }))
    dependents.value = page.items
    total.value = page.total
    history.value = (await data(api.GET('/api/v1/rotations', { params: { query: { filter: [`account_id=${id}`], limit: 10 } } }))).items
    findings.value = (await data(api.GET('/api/v1/findings', { params: { query: { filter: [`account_id=${id}`], limit: 20 } } }))).items
    trouble.value = ''
    await order()
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())

/** The start order on each system where services of the account stand in a chain. */
const chains = ref<{ system: string; services: Started[] }[]>([])
async function order(): Promise<void> {
  const systems = [...new Set(dependents.value.filter((d) => d.kind === 'service').map((d) => d.system))].slice(0, 6)
  chains.value = (
    await Promise.all(
      systems.map(async (system) => {
        const all = (
          await data(
            api.GET('/api/v1/dependents', { params: { query: { filter: [`system=${system}`, 'kind=service', 'gone='], limit: 500 } } }),
          )
        ).items
        const services = chainsAround(
          all.map((d) => startedOf(d, mine(d).length > 0)),
          (s) => s.own,
        )
        return { system, services }
      }),
    )
  ).filter((c) => c.services.some((s) => s.needs.length))
}
const latent = computed(() => findings.value.some((f) => ['latent-breakage', 'runs-on-old', 'down'].includes(f.kind)))
const mine = (d: Schemas['Dependent']) => d.ties.filter((t) => t.account_id === id)
</script>

<template>
  <Trouble :words="trouble" retry @again="load" />
  <template v-if="detail">
    <h1>
      {{ detail.account.name }} <span class="soft">on</span>{{ ' ' }}
      <RouterLink :to="`/systems/${encodeURIComponent(detail.account.system)}`">{{ detail.account.system }}</RouterLink>
    </h1>
    <p class="soft">{{ detail.account.description }}</p>
    <FindingPanel
      :findings="findings"
      :about="detail.account.name"
      :most="3"
      :all="`/findings?f=${encodeURIComponent(`account_id=${id}`)}`"
      :more="`All ${findings.length}${findings.length === 20 ? ' or more' : ''} findings of this account`"
    />
    <div class="two">
      <section>
        <h2>What it is</h2>
        <dl class="facts panel">
          <template v-if="detail.account.dn"
            ><dt>DN</dt>
            <dd class="mono">{{ detail.account.dn }}</dd></template
          >
          <template v-if="detail.account.upn"
            ><dt>Principal name</dt>
            <dd>{{ detail.account.upn }}</dd></template
          >
          <template v-if="detail.account.sid"
            ><dt>SID</dt>
            <dd class="mono">{{ detail.account.sid }}</dd></template
          >
          <template v-if="detail.account.former_sids?.length"
            ><dt>Former SIDs</dt>
            <dd class="mono">{{ detail.account.former_sids.join(', ') }}</dd></template
          >
          <template v-if="detail.account.uid"
            ><dt>User id</dt>
            <dd>{{ detail.account.uid }}</dd></template
          >
          <dt>Type</dt>
          <dd>{{ detail.account.type }}</dd>
          <dt>Enabled</dt>
          <dd>{{ detail.account.enabled }}{{ detail.account.locked === 'yes' ? ', locked' : '' }}</dd>
          <dt>Password changed</dt>
          <dd>
            <When :at="detail.account.password_changed" /> <span class="soft">{{ moment(detail.account.password_changed) }}</span>
          </dd>
          <dt>Password expires</dt>
          <dd>
            <template v-if="detail.account.never_expires">never</template
            ><template v-else-if="detail.account.password_expires"><When :at="detail.account.password_expires" /></template
            ><span v-else class="soft">not known</span>
          </dd>
          <template v-if="detail.account.last_logon"
            ><dt>Last log-on</dt>
            <dd><When :at="detail.account.last_logon" /></dd
          ></template>
          <template v-if="detail.account.principals?.length"
            ><dt>Service principals</dt>
            <dd>{{ detail.account.principals.join(', ') }}</dd></template
          >
          <template v-if="detail.account.groups?.length"
            ><dt>Groups, nested</dt>
            <dd>
              <div v-for="g in detail.account.groups" :key="g">{{ g }}</div>
            </dd></template
          >
          <template v-if="detail.account.pair"
            ><dt>Takes turns with</dt>
            <dd>
              {{ detail.account.pair }}
              <span class="soft">{{
                detail.account.pair_not ? `not yet: ${detail.account.pair_not}` : 'both have the same rights, and none of their own'
              }}</span>
            </dd></template
          >
          <dt>Seen</dt>
          <dd><When :at="detail.account.seen" />, first <When :at="detail.account.first_seen" /></dd>
        </dl>
      </section>
      <section>
        <h2>Custody</h2>
        <CredentialCustody :account="id" :credential="detail.password" @changed="load" />
        <h2>History</h2>
        <RotationHistory :rotations="history" />
      </section>
    </div>
    <h2>
      {{ plural(total, 'dependent') }}
      <RouterLink class="small" :to="`/accounts/${id}/radius`">picture of all that would be touched</RouterLink>
    </h2>
    <div class="panel scroll" tabindex="0" role="region" aria-label="Dependents">
      <table v-if="dependents.length" class="dense">
        <thead>
          <tr>
            <th scope="col">System</th>
            <th scope="col">Kind</th>
            <th scope="col">Place</th>
            <th scope="col">Read by</th>
            <th scope="col">State</th>
            <th scope="col">Evidence</th>
            <th scope="col">Seen</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="d in dependents" :key="d.id">
            <td>
              <RouterLink :to="`/systems/${encodeURIComponent(d.system)}`">{{ d.system }}</RouterLink>
            </td>
            <td>{{ d.kind }}</td>
            <td class="mono">
              <RouterLink :to="`/dependents/${d.id}`">{{ d.place }}</RouterLink>
            </td>
            <td>{{ d.readers.join(', ') }}</td>
            <td><StateTag :state="d.state ?? ''" /></td>
            <td>
              <div v-for="t in mine(d)" :key="t.evidence">
                <Evidence :tie="t" />
                <div class="soft">{{ t.detail }}</div>
              </div>
            </td>
            <td><When :at="d.seen" /></td>
          </tr>
        </tbody>
      </table>
      <span v-else class="soft">No dependent is known.</span>
      <p v-if="total > dependents.length">
        <RouterLink :to="{ path: '/dependents', query: { f: `account~${detail.account.name}` } }">All {{ total }}</RouterLink>
      </p>
    </div>
    <div v-if="detail.incomplete.length" class="panel incomplete">
      <b>The picture is incomplete:</b> {{ plural(detail.incomplete.length, 'system') }} not read completely, so something there may use
      this account.
      <div v-for="i in detail.incomplete" :key="i.system" class="soft">{{ i.system }}: {{ i.why }}</div>
    </div>
    <h2>Observed and declared use</h2>
    <UsesPanel :account="id" @changed="load" />
    <template v-for="c in chains" :key="c.system">
      <h2>Start order on {{ c.system }}</h2>
      <div class="panel"><StartOrder :services="c.services" :label="`Start order on ${c.system}, from left to right`" /></div>
    </template>
    <template v-if="detail.password?.state === 'custody' && session.may('operator') && latent">
      <h2>Repair</h2>
      <p class="soft">Gives the current password to all that have another one stored, and restarts what runs on an old one or is down.</p>
      <RotatePanel :account="id" repair verb="Repair now" />
    </template>
    <template v-if="detail.password?.state === 'custody' && session.may('operator')">
      <h2>Rotate</h2>
      <RotatePanel :account="id" />
    </template>
  </template>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 16px;
}
.small {
  font-size: 13px;
  font-weight: 400;
  margin-left: 10px;
}
.incomplete {
  margin-top: 10px;
  border-color: var(--warn);
}
.scroll {
  overflow-x: auto;
}
@media (max-width: 1000px) {
  .two {
    grid-template-columns: 1fr;
  }
}
</style>
