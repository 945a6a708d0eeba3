<script setup lang="ts">
/** The way to a system, by its name. */
defineProps<{ name: string; title?: string }>()
</script>

<template>
  <RouterLink :to="`/systems/${encodeURIComponent(name)}`" :title="title">{{ name }}</RouterLink>
</template>
