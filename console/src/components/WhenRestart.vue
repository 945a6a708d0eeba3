<script setup lang="ts">
/** When dependents are restarted: now, in a window, or not at all. */
export interface Restart {
  restart: 'now' | 'window' | 'leave'
  from: string
  to: string
}
const model = defineModel<Restart>({ required: true })
</script>

<template>
  <label class="row"
    ><span>Restart</span>
    <select v-model="model.restart" class="field">
      <option value="now">now</option>
      <option value="window">in a window</option>
      <option value="leave">leave running: a latent breakage until then</option>
    </select>
  </label>
  <template v-if="model.restart === 'window'">
    <label class="row"><span>from</span><input v-model="model.from" class="field" type="datetime-local" /></label>
    <label class="row"><span>to</span><input v-model="model.to" class="field" type="datetime-local" /></label>
    <span class="soft">UTC</span>
  </template>
</template>
