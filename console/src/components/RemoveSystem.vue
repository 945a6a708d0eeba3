<script setup lang="ts">
import { Alert, Modal } from 'ant-design-vue'
import { ref } from 'vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import TypedName from './TypedName.vue'

/** What goes with a system, said before it is removed; its name is typed. */
defineProps<{ name: string; removal: Schemas['Removal']; busy: boolean; trouble: string }>()
defineEmits<{ remove: []; close: [] }>()
const typed = ref('')
</script>

<template>
  <Modal
    open
    :title="t('systems.removeAsk', { name })"
    :ok-text="t('systems.remove')"
    :cancel-text="t('do.notNow')"
    :ok-button-props="{ danger: true, disabled: typed !== name || !!removal.refused, loading: busy }"
    @ok="$emit('remove')"
    @cancel="$emit('close')"
  >
    <Alert v-if="removal.refused" type="error" show-icon :message="removal.refused" />
    <p v-else>
      {{
        t('systems.goes', {
          accounts: t('n.accounts', removal.accounts),
          dependents: t('n.dependents', removal.dependents),
          rotations: t('n.rotations', removal.rotations),
        })
      }}
    </p>
    <Trouble :words="trouble" />
    <TypedName v-if="!removal.refused" id="remove-name" v-model="typed" :name="name" />
  </Modal>
</template>
