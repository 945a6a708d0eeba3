<script setup lang="ts">
import type { Schemas } from '../api/client'
import When from './When.vue'

/** What is known of a key, an entry that authorises one, or a certificate: rows of a list of facts. */
defineProps<{ of: Schemas['Key'] }>()
</script>

<template>
  <template v-if="of.type"
    ><dt>Type</dt>
    <dd>{{ of.type }}{{ of.bits ? `, ${of.bits} bits` : '' }}</dd></template
  >
  <template v-if="of.fingerprint"
    ><dt>Fingerprint</dt>
    <dd class="mono break">
      <RouterLink :to="{ path: '/credentials', query: { f: `fingerprint=${of.fingerprint}` } }">{{ of.fingerprint }}</RouterLink>
    </dd></template
  >
  <template v-if="of.lets"
    ><dt>Lets in as</dt>
    <dd>{{ of.lets }}</dd></template
  >
  <template v-if="of.options?.length"
    ><dt>Only with</dt>
    <dd class="mono break">
      <div v-for="o in of.options" :key="o">{{ o }}</div>
    </dd></template
  >
  <template v-if="of.type && !of.lets && !of.principal && !of.subject"
    ><dt>Passphrase</dt>
    <dd>{{ of.encrypted ? 'yes' : 'none' }}</dd></template
  >
  <template v-if="of.principal"
    ><dt>Principal</dt>
    <dd>{{ of.principal }}{{ of.version ? `, version ${of.version}` : '' }}</dd></template
  >
  <template v-if="of.encryption?.length"
    ><dt>Encryption</dt>
    <dd>{{ of.encryption.join(', ') }}</dd></template
  >
  <template v-if="of.subject"
    ><dt>Subject</dt>
    <dd>
      {{ of.subject }}<span v-if="of.comment" class="soft"> issued by {{ of.comment }}</span>
    </dd></template
  >
  <template v-if="of.ends"
    ><dt>Ends</dt>
    <dd><When :at="of.ends" /></dd
  ></template>
  <template v-if="of.key_id"
    ><dt>Number of the key</dt>
    <dd class="mono">{{ of.key_id }}</dd></template
  >
  <template v-if="of.mode"
    ><dt>Mode of the file</dt>
    <dd class="mono">{{ of.mode }}</dd></template
  >
</template>
