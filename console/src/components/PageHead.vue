<script setup lang="ts">
/** Title, one sentence, and at most three acts. */
defineProps<{ title: string; lead?: string }>()
</script>

<template>
  <div class="row spread head">
    <div class="words">
      <h1>
        <slot name="title">{{ title }}</slot>
      </h1>
      <p v-if="lead || $slots.lead" class="lead">
        <slot name="lead">{{ lead }}</slot>
      </p>
    </div>
    <div class="row"><slot /></div>
  </div>
</template>

<style scoped>
.head {
  align-items: flex-start;
  margin-bottom: 4px;
}
.words {
  flex: 1 1 420px;
  min-width: 0;
}
h1 {
  overflow-wrap: anywhere;
}
</style>
