<script setup lang="ts">
import PageHead from '../components/PageHead.vue'
import SessionsList from '../components/SessionsList.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const session = useSession()
</script>

<template>
  <PageHead :title="t('places.sessions')" :lead="session.may('administrator') ? t('sessions.leadAll') : t('sessions.lead')" />
  <SessionsList />
</template>
