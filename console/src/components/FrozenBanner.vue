<script setup lang="ts">
import { defineAsyncComponent, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { onChanged } from '../api/changes'

/** Tells everybody while everything is frozen, and lets who may thaw it. */
const FrozenAlert = defineAsyncComponent(() => import('./FrozenAlert.vue'))
const freeze = ref<Schemas['Freeze']>()
const load = () =>
  data(api.GET('/api/v1/freeze'))
    .then((v) => (freeze.value = v))
    .catch(() => undefined)
void load()
onChanged(() => void load())
</script>

<template>
  <FrozenAlert v-if="freeze?.frozen" :freeze="freeze" @thawed="freeze = $event" />
</template>
