<script setup lang="ts">
import type { Schemas } from '../api/client'
import StateTag from './StateTag.vue'
import When from './When.vue'

/** The latest rotations of an account or a credential. */
defineProps<{ rotations: Schemas['Rotation'][] }>()
</script>

<template>
  <div class="panel">
    <table v-if="rotations.length" class="dense">
      <thead>
        <tr>
          <th scope="col">Rotation</th>
          <th scope="col">Result</th>
          <th scope="col">By</th>
          <th scope="col">Started</th>
          <th scope="col">Reason</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in rotations" :key="r.id">
          <td>
            <RouterLink :to="`/rotations/${r.id}`">{{ r.id }}</RouterLink>
          </td>
          <td><StateTag :state="r.result || r.mode" /></td>
          <td>{{ r.requested_by }}</td>
          <td><When :at="r.started" /></td>
          <td>{{ r.reason }}</td>
        </tr>
      </tbody>
    </table>
    <span v-else class="soft">Never rotated from here.</span>
  </div>
</template>
